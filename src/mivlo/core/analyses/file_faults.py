"""What is wrong with the file of a track."""

from collections.abc import Iterable

from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.file_faults import FileFaultKind, find_file_faults, length_faults
from mivlo.core.model import Frozen, RecordedSession

__all__ = ["FileFaultView", "FileFaults", "FileFaultsIn", "FileFaultsOf"]


class FileFaultsIn(Frozen):
    """A file at the session's rate."""

    sound: Sound
    sample_rate_hz: int


class FileFaultView(BaseModel):
    """A fault of a file, as `FileFault`; times in seconds of the file."""

    kind: FileFaultKind
    sentence: str
    times_s: list[float]


class FileFaultsOf(BaseModel):
    """All that is wrong with a file."""

    faults: list[FileFaultView]


class FileFaults(Analysis[OfStrip, FileFaultsIn, FileFaultsOf]):
    """Clipped peaks, an offset, gaps, a silent side, equal sides; shown with what its length says beside the others."""

    name = "file-faults"
    version = 2
    asked, params, result = OfStrip, FileFaultsIn, FileFaultsOf

    def question(self, session: RecordedSession, asked: OfStrip, known: Known) -> FileFaultsIn:
        sound, _ = sound_into(session, session.track(asked.strip_id))
        return FileFaultsIn(sound=sound, sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: FileFaultsIn) -> FileFaultsOf:
        found = find_file_faults(work.open(params.sound.audio_id), sample_rate_hz=params.sample_rate_hz)
        return FileFaultsOf(
            faults=[FileFaultView(kind=one.kind, sentence=one.sentence, times_s=list(one.times_s)) for one in found]
        )

    def show(
        self, session: RecordedSession, asked: OfStrip, params: FileFaultsIn, result: FileFaultsOf
    ) -> FileFaultsOf:  # fmt: skip
        track = session.track(asked.strip_id)
        audio, rate = session.audio_of(track), session.sample_rate_hz
        longest_s = max(session.audio_of(one).n_frames for one in session.tracks) / rate
        by_length = length_faults(
            audio.n_frames / rate, start_s=track.start_frame / rate, longest_s=longest_s,
            original_rate_hz=audio.original_rate_hz,
        )  # fmt: skip
        more = [FileFaultView(kind=one.kind, sentence=one.sentence, times_s=[]) for one in by_length]
        return FileFaultsOf(faults=[*result.faults, *more])

    def foreseen(self, session: RecordedSession) -> Iterable[OfStrip]:
        return (OfStrip(strip_id=track.id) for track in session.tracks)
