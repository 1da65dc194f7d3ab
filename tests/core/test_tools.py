"""What is used to work on Mivlo, where it could fall behind the code."""

import runpy

from ..conftest import ROOT


def test_every_line_that_is_broken_on_purpose_stands_there_once_and_its_tests_too():
    for one in runpy.run_path(str(ROOT / "tools/mutate.py"))["BREAKS"]:
        text = (ROOT / "src/mivlo" / one.file).read_text(encoding="utf-8")
        assert text.count(one.line) == 1, (one.file, one.line)
        assert (ROOT / "tests" / one.tests).is_file(), one.tests
