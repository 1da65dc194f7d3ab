"""The sound of a track beside the one that it had before: what somebody who replaces a file wants to be told."""

from pydantic import BaseModel

from mivlo.core.alignment import offset_between
from mivlo.core.analyses.base import Analysis, NoFigures, Sound, Work
from mivlo.core.errors import ParameterError
from mivlo.core.finder.coming_back import loudness_change_db
from mivlo.core.model import Frozen

__all__ = ["REPLACED", "Replaced", "ReplacedIn"]

LEAST_DB, LEAST_S = 0.05, 0.0005  # what is less is the same to whoever reads
WORDS = {1: "mono", 2: "stereo"}


class ReplacedIn(Frozen):
    """Both sounds, at the session's rate."""

    was: Sound
    now: Sound
    sample_rate_hz: int


class Replaced(BaseModel):
    """What changed: length, level, channels, and by how much what both hold comes later now.

    `later_frames` is None where neither is found in the other: another recording. `sentence` is all of it in words.
    """

    longer_s: float
    louder_db: float
    was_channels: int
    n_channels: int
    later_frames: int | None
    sentence: str


class Replacements(Analysis[NoFigures, ReplacedIn, Replaced]):
    """One sound in the place of another."""

    name = "replaced"
    version = 2
    params, result = ReplacedIn, Replaced

    def analyse(self, work: Work, params: ReplacedIn) -> Replaced:
        """Return what changed; raises nothing."""
        rate = params.sample_rate_hz
        was, now = work.open(params.was.audio_id), work.open(params.now.audio_id)
        try:
            later: int | None = offset_between(was, now, sample_rate_hz=rate)
        except ParameterError:
            later = None
        longer_s = (now.n_frames - was.n_frames) / rate
        louder_db = loudness_change_db(was, now, sample_rate_hz=rate)
        return Replaced(
            longer_s=longer_s, louder_db=louder_db, was_channels=was.n_channels, n_channels=now.n_channels,
            later_frames=later, sentence=_sentence(longer_s, louder_db, was.n_channels, now.n_channels, later, rate),
        )  # fmt: skip


REPLACED = Replacements()


def _sentence(longer_s: float, louder_db: float, was: int, now: int, later: int | None, rate: int) -> str:
    words = []
    if abs(longer_s) >= LEAST_S:
        words.append(f"{abs(longer_s):.3f} s {'longer' if longer_s > 0 else 'shorter'}")
    if abs(louder_db) >= LEAST_DB:
        words.append(f"{abs(louder_db):.1f} dB {'louder' if louder_db > 0 else 'softer'}")
    if was != now:
        words.append(f"{WORDS[now]} instead of {WORDS[was]}")
    if later is None:
        words.append("another recording: nothing of the one is found in the other")
    elif later:
        words.append(f"what both hold comes {abs(later) / rate * 1_000:.2f} ms {'later' if later > 0 else 'sooner'}")
    return ", ".join(words) or "the same length, level and place"
