"""A session out of a bundle, analysed and rendered in this process, with neither server nor database."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from mivlo.core.analyses.base import Need, Work
from mivlo.core.analyses.needs import needs_of
from mivlo.core.analyses.rendered import SAMPLES
from mivlo.core.audiofile import ImportLimits, inspect_audio, resample_to_store
from mivlo.core.bundle import Bundle, BundledCheck
from mivlo.core.engine.source import Source, open_source
from mivlo.core.errors import MivloError
from mivlo.core.hand_over import SoundStore
from mivlo.core.model import RecordedSession, Treatment

__all__ = ["LocalSession"]


class LocalSession:
    """The session of a bundle with its sound at its rate, in a folder of its own; results are computed once.

    Raises
    ------
    BundleError, AudioFileError: what of it cannot be read
    NotFoundError: no such treatment
    """

    def __init__(self, bundle: Bundle, folder: Path, *, letter: Treatment, limits: ImportLimits) -> None:
        self.session: RecordedSession = bundle.manifest.session.as_treated(letter)
        self.checks: Sequence[BundledCheck] = bundle.manifest.blind_checks
        self._folder, self._limits = folder, limits
        (folder / "audio").mkdir()
        self._originals: Mapping[str, Path] = bundle.extract_all(folder / "audio")
        self._results: dict[str, Any] = {}
        for audio_id, path in self._originals.items():
            name = self.session.audio[audio_id].original_name
            info = inspect_audio(path, limits=limits, name=name)
            (folder / audio_id).mkdir()
            target = folder / audio_id / SAMPLES
            resample_to_store(path, target, info=info, rate_hz=self.session.sample_rate_hz, name=name)

    @property
    def sound(self) -> SoundStore:
        """Return where its sound is. Raises nothing. Source: ours."""
        return SoundStore(original=self._originals.__getitem__, open=self._open, limits=self._limits)

    def _open(self, audio_id: str) -> Source:
        return open_source(self._folder / audio_id / SAMPLES)

    def result(self, need: Need) -> Any:
        """Return the result of an analysis, with all that it needs; raises as the analysis."""
        if need.key not in self._results:
            for one in needs_of(need.analysis, need.params):
                self.result(one)
            folder = self._folder / need.key
            folder.mkdir(exist_ok=True)
            work = Work(self._open, self.result, lambda one: self._folder / one.key, folder, lambda _: None)
            made = need.analysis.adapter().dump_json(need.analysis.analyse(work, need.params))
            self._results[need.key] = need.analysis.adapter().validate_json(made)
        return self._results[need.key]

    def known(self, need: Need) -> Any:
        """Return a result, or None of what cannot be computed. Raises nothing. Source: ours."""
        try:
            return self.result(need)
        except MivloError:
            return None
