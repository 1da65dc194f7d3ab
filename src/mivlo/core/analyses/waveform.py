"""Lowest and highest sample of each column of a whole sound."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.spectra.pictures import waveform_peaks

__all__ = ["AskedWaveform", "Waveform", "WaveformOf", "Waveforms"]


class AskedWaveform(OfStrip):
    """What goes into a strip, in so many columns."""

    columns: int = Field(default=1_200, ge=16, le=4_000)


class WaveformOf(Frozen):
    """A sound, and how many columns."""

    sound: Sound
    columns: int


class Waveform(BaseModel):
    """Lowest and highest sample of each of the columns, (columns,)."""

    lowest: list[float]
    highest: list[float]


class Waveforms(Analysis[AskedWaveform, WaveformOf, Waveform]):
    """The waveform of what goes into a strip."""

    name = "waveform"
    asked, params, result = AskedWaveform, WaveformOf, Waveform

    def question(self, session: RecordedSession, asked: AskedWaveform, known: Known) -> WaveformOf:
        sound, _ = sound_into(session, session.strip(asked.strip_id))
        return WaveformOf(sound=sound, columns=asked.columns)

    def analyse(self, work: Work, params: WaveformOf) -> Waveform:
        source = work.open(params.sound.audio_id)
        peaks = np.round(waveform_peaks(source, start=0, end=source.n_frames, n_columns=params.columns), 4)
        return Waveform(lowest=peaks[0].tolist(), highest=peaks[1].tolist())

    def foreseen(self, session: RecordedSession) -> Iterable[AskedWaveform]:
        return (AskedWaveform(strip_id=track.id) for track in session.tracks)
