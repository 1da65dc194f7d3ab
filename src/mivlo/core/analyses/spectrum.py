"""The average spectrum of a stretch, its outlines, and how its levels are spread over the time."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.engine.source import blocks_of
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.spectra.average import (
    AXIS_HZ,
    band_levels_of,
    far_outline,
    highest_near,
    level_percentiles,
    near_outline,
)
from mivlo.core.spectra.smoothing import Smoothing, smoothed

__all__ = ["AskedSpectrum", "Spectra", "Spectrum", "SpectrumOf"]

SMOOTHED = ("level_db", "often_db", "seldom_db", "highest_db")


class AskedSpectrum(OfStrip):
    """What goes into a strip over some frames of the session; where none are said, over all that it has."""

    start_frame: int = Field(default=0, ge=0)
    end_frame: int | None = Field(default=None, ge=0)
    smoothing: Smoothing = "none"  # of the curves of levels; what stands out is told of the plain ones


class SpectrumOf(Frozen):
    """Frames of a sound."""

    sound: Sound
    start: int
    end: int
    sample_rate_hz: int


class Spectrum(BaseModel):
    """The average spectrum of a stretch, and its two outlines, at the frequencies of the axis."""

    hz: list[float]
    level_db: list[float]
    outline_db: list[float]
    far_outline_db: list[float]
    stands_out_db: list[float]  # the highest within a twelfth of an octave around
    often_db: list[float]  # what is there 95 % of the time
    seldom_db: list[float]  # what is there only 5 % of it
    highest_db: list[float]  # what is ever there


class Spectra(Analysis[AskedSpectrum, SpectrumOf, Spectrum]):
    """The average spectrum of a stretch of what goes into a strip."""

    name = "spectrum"
    asked, params, result = AskedSpectrum, SpectrumOf, Spectrum

    def question(self, session: RecordedSession, asked: AskedSpectrum, known: Known) -> SpectrumOf:
        sound, offset = sound_into(session, session.sounding(asked.strip_id))
        rate = session.sample_rate_hz
        start = min(max(asked.start_frame - offset, 0), sound.n_frames)
        end = sound.n_frames if asked.end_frame is None else min(max(asked.end_frame - offset, 0), sound.n_frames)
        return SpectrumOf(sound=sound, start=start, end=max(end, start), sample_rate_hz=rate)

    def analyse(self, work: Work, params: SpectrumOf) -> Spectrum:
        source, rate = work.open(params.sound.audio_id), params.sample_rate_hz
        start, n_frames = params.start, max(params.end - params.start, 1)
        level_db = band_levels_of(blocks_of(source, start, start + n_frames), n_frames, sample_rate_hz=rate)
        often_db, seldom_db, highest_db = level_percentiles(
            source, (5.0, 95.0, 100.0), start=start, end=start + n_frames, sample_rate_hz=rate
        )
        near_db = near_outline(level_db)
        curves = {
            "level_db": level_db,
            "outline_db": near_db,
            "far_outline_db": far_outline(level_db),
            "stands_out_db": highest_near(level_db - near_db),
            "often_db": often_db,
            "seldom_db": seldom_db,
            "highest_db": highest_db,
        }
        return Spectrum(hz=AXIS_HZ.tolist(), **{name: np.round(db, 2).tolist() for name, db in curves.items()})

    def show(self, session: RecordedSession, asked: AskedSpectrum, params: SpectrumOf, result: Spectrum) -> Spectrum:
        if asked.smoothing == "none":
            return result
        curves = {
            name: np.round(smoothed(np.array(getattr(result, name)), asked.smoothing), 2).tolist() for name in SMOOTHED
        }
        return result.model_copy(update=curves)

    def foreseen(self, session: RecordedSession) -> Iterable[AskedSpectrum]:
        return (AskedSpectrum(strip_id=track.id) for track in session.tracks)
