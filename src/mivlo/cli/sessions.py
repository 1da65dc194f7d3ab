"""Verbs of whole sessions: bundles, with neither server nor database, and the running application."""

import json
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from pydantic import ValidationError

from mivlo.cli.application import app, one_line_errors
from mivlo.cli.options import AsJson, Port, Roles
from mivlo.cli.reading import opened, roles_of
from mivlo.core.errors import ParameterError
from mivlo.core.treatment import explain_validation, read_treatment

if TYPE_CHECKING:  # loaded where it is needed: the audio libraries would cost every verb its quick start
    from mivlo.core.local_session import LocalSession
    from mivlo.core.model import Treatment
    from mivlo.core.proof.report import Report

__all__: list[str] = []


@app.command("round")
@one_line_errors
def round_(
    files: Annotated[
        list[Path],
        typer.Argument(metavar="FILE...", help="Audio files of the tracks, all from the same start; or one bundle."),
    ],
    role: Roles = None,
    top: Annotated[int, typer.Option(help="So many suspects at most, the strongest.")] = 40,
    treatment: Annotated[str, typer.Option(help="Of a bundle: which treatment is meant.")] = "A",
    as_json: AsJson = False,
) -> None:
    """Print what is to be judged over all tracks, first what is heard in the mix, and the fewest cuts for room."""
    from mivlo.core.bundle import is_bundle
    from mivlo.core.ensemble.describe import sentence
    from mivlo.core.finder import describe
    from mivlo.core.round.files import as_plain, round_of_files

    if top < 0:
        raise ParameterError(f"--top {top} must be 0 or more")
    if len(files) == 1 and is_bundle(files[0]):
        _round_of_bundle(files[0], treatment, as_json=as_json)
        return
    found = round_of_files(files, roles_of(files, role or []), top=top)
    if as_json:
        print(json.dumps(as_plain(found)))
        return
    for item in found.items:
        one, mix = item.suspect, item.in_mix
        heard = f"{mix.heard}{' in the mix' if mix.heard == 'lost' else ''}, {mix.change_db:.1f} dB"
        print(f"{found.names[item.track]}: {one.kind} {describe.sentence(one)} ({one.confidence:.2f}; {heard})")
    for clash_ in found.clashes:
        print(sentence(clash_, found.names))
    for step, move in zip(found.plan.steps, found.moves, strict=True):
        yielding, front = found.names[step.candidate.yielding], found.names[step.candidate.front]
        low, high = step.candidate.low_hz, step.candidate.high_hz
        print(f"plan: {yielding} gives way to {front} from {low:.0f} to {high:.0f} Hz ({move.kind})")


def _round_of_bundle(path: Path, treatment: str, *, as_json: bool) -> None:
    from mivlo.core.round.rows import round_rows

    with _opened(path, treatment) as local:
        view = round_rows(local.session, local.known)
    if as_json:
        print(view.model_dump_json())
        return
    for row in view.rows:
        outcome = row.outcome or row.proposes
        print(f"{row.status:8} {row.sentence}{f' ({outcome})' if outcome else ''}")


@contextmanager
def _opened(path: Path, treatment: str) -> "Iterator[LocalSession]":
    """Give the session of a bundle, in the treatment that is meant; raises BundleError, NotFoundError."""
    from mivlo.core.audiofile import ImportLimits
    from mivlo.core.bundle import Bundle
    from mivlo.core.local_session import LocalSession

    with tempfile.TemporaryDirectory() as folder, Bundle(path) as bundle:
        yield LocalSession(bundle, Path(folder), letter=_letter(treatment), limits=ImportLimits())


def _letter(text: str) -> "Treatment":
    from mivlo.core.model import TREATMENTS

    for letter in TREATMENTS:
        if letter == text:
            return letter
    raise ParameterError(f"--treatment {text!r} must be one of: {', '.join(TREATMENTS)}")


@app.command()
@one_line_errors
def render(
    bundle: Annotated[Path, typer.Argument(help="Bundle of a session.")],
    folder: Annotated[Path, typer.Argument(metavar="OUTDIR", help="Folder for the files; made where it is missing.")],
    treatment: Annotated[str, typer.Option(help="Which treatment is rendered.")] = "A",
    what: Annotated[str, typer.Option(help="tracks, groups, or mix.")] = "tracks",
    tracks: Annotated[
        list[str] | None, typer.Option(help="Name of a track or group that is rendered; all where left out.")
    ] = None,
    output: Annotated[str, typer.Option(help="wav-24, wav-float or flac-24.")] = "wav-24",
    faders: Annotated[bool | None, typer.Option("--faders/--no-faders", help="As the session's faders stand.")] = None,
    tail: Annotated[float, typer.Option(help="Of groups and the mix: so many seconds behind the end.")] = 0.0,
    level_match: Annotated[
        bool | None, typer.Option("--level-match/--no-level-match", help="No louder than before the moves.")
    ] = None,
) -> None:
    """Render the tracks, groups or mix of a bundle, as the application hands them over."""
    from mivlo.core.hand_over import HandOverRequest, render_all

    with _opened(bundle, treatment) as local:
        session = local.session
        strips = session.lasting_groups if what == "groups" else session.tracks
        unknown = sorted(set(tracks or ()) - {one.name for one in strips})
        if unknown:
            names = ", ".join(one.name for one in strips)
            raise ParameterError(f"--tracks {unknown[0]!r:.80} is not in this session; there are: {names}")
        ids = [one.id for one in strips if not tracks or one.name in tracks]
        try:
            request = HandOverRequest.model_validate(
                {"what": what, "treatment": treatment, f"{'group' if what == 'groups' else 'track'}_ids": ids,
                 "output": output, "faders": faders, "tail_s": tail, "level_match": level_match}
            )  # fmt: skip
        except ValidationError as error:
            raise ParameterError(explain_validation(error)) from error
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder) as scratch:
            made = render_all(session, request, Path(scratch) / "files", local.sound, lambda _: None, local.result)
            for index, file in enumerate(made.files):
                (Path(scratch) / "files" / f"{index}").replace(folder / file.name)
                print(folder / file.name)
    clipped = sum(file.clipped_samples for file in made.files)
    if clipped:
        print(f"mivlo: note: {clipped} samples were over full scale and were clipped", file=sys.stderr)


@app.command()
@one_line_errors
def bundle(
    session: Annotated[str, typer.Argument(help="Name or id of a session of the running application.")],
    target: Annotated[Path, typer.Argument(metavar="OUT", help="File to write, such as song.zip.")],
    port: Port = 8765,
) -> None:
    """Save a session of the running application as a bundle."""
    from mivlo.cli.client import save_bundle

    save_bundle(session, target, port=port)


@app.command()
@one_line_errors
def report(
    files: Annotated[
        list[Path], typer.Argument(metavar="FILE...", help="Audio files, each treated by itself; or one bundle.")
    ],
    treatment: Annotated[
        str, typer.Option(help="Treatment file (docs/treatment.schema.json); of a bundle, which treatment is meant.")
    ] = "A",
    page: Annotated[Path | None, typer.Option(help="Also write it as a page to print, to this .html file.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON (docs/report.schema.json).")] = False,
) -> None:
    """Print what was done: the moves, and loudness, peaks and ranges before and after."""
    from mivlo.core.bundle import is_bundle
    from mivlo.core.proof.report import as_lines, to_page
    from mivlo.core.proof.reporting import report_of_files

    if len(files) == 1 and is_bundle(files[0]):
        made = _report_of_bundle(files[0], treatment)
    else:
        read = read_treatment(Path(treatment))
        sounds = [(file.name, opened(file)[1]) for file in files]
        made = report_of_files(sounds, read, name=", ".join(file.name for file in files))
    if page is not None:
        page.write_text(to_page(made), encoding="utf-8")
    if as_json:
        print(made.model_dump_json())
        return
    for line in as_lines(made):
        print(line)


def _report_of_bundle(path: Path, treatment: str) -> "Report":
    from mivlo.core.proof.blind import results_of_checks
    from mivlo.core.proof.reporting import report_of_session

    with _opened(path, treatment) as local:
        of_moves, others = results_of_checks(local.session, [(one.asked, one.result) for one in local.checks])
        return report_of_session(local.session, local.known, blind=of_moves, checks=others)
