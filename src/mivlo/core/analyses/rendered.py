"""Sound that the engine makes of a mix, kept so that it can be looked at and listened to like a file."""

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Need, NoFigures, Rendering, Sound, Work, key_of
from mivlo.core.audiofile import write_store
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix, render_track

__all__ = ["SAMPLES", "Rendered", "renderings_in", "sound_of"]

SAMPLES = "session.npy"


class Rendered(Analysis[NoFigures, Rendering, Sound]):
    """The sound itself: written as `SAMPLES`, float32 (channels, frames)."""

    name = "rendered"
    writes_files = True
    params = Rendering
    result = Sound

    def analyse(self, work: Work, params: Rendering) -> Sound:
        """Write the sound; raises as the engine's renders."""
        rate, n_frames = params.sample_rate_hz, params.n_frames
        if params.what == "mix":
            blocks = render_mix(params.mix, work.open, start=0, end=n_frames, sample_rate_hz=rate)
        else:
            track = params.mix.tracks[0]
            start = track.start_frame
            blocks = render_track(
                params.mix, track.id, work.open, start=start, end=start + n_frames, sample_rate_hz=rate
            )
        counted = work.counted(blocks, n_frames)
        write_store(work.folder / SAMPLES, counted, n_channels=params.n_channels, n_frames=n_frames)
        return Sound(audio_id=key_of(self, params), n_frames=n_frames, n_channels=params.n_channels)


_RENDERED = Rendered()


def sound_of(rendering: Rendering) -> Sound:
    """Return the sound that a rendering will be. Raises nothing. Source: ours."""
    key = key_of(_RENDERED, rendering)
    return Sound(audio_id=key, n_frames=rendering.n_frames, n_channels=rendering.n_channels, rendering=rendering)


def renderings_in(figures: Any) -> Iterator[Need]:
    """Yield what must be rendered first of the sounds that some figures name. Raises nothing. Source: ours."""
    if isinstance(figures, Sound):
        if figures.rendering is not None:
            yield Need(_RENDERED, figures.rendering)
    elif isinstance(figures, BaseModel) and not isinstance(figures, Mix):  # which names its sounds, and holds none
        for name in type(figures).model_fields:
            yield from renderings_in(getattr(figures, name))
    elif isinstance(figures, tuple):
        for one in figures:
            yield from renderings_in(one)
