"""Pictures of the spectrogram's pyramid; a picture's opacity is the ink."""

from collections.abc import Iterable
from typing import Literal

from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_behind, sound_into
from mivlo.core.errors import NotFoundError
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.spectra.pictures import Tile, difference_png, ink_png, spectrogram_tile, whole_tile

__all__ = ["PICTURE", "AskedPicture", "Picture", "PictureOf", "Pictures"]

PICTURE = "picture.png"


class AskedPicture(OfStrip):
    """A place in the pyramid of a strip before its moves, after them, or of what lies between the two."""

    shows: Literal["before", "after", "difference"] = "before"
    time_zoom: int = Field(ge=0, le=12)
    column: int = Field(default=0, ge=0, le=100_000)
    freq_zoom: int = Field(default=0, ge=0, le=5)
    row: int = Field(default=0, ge=0, le=31)


class PictureOf(Frozen):
    """A place in the pyramid of a sound, or of its difference from another one."""

    sound: Sound
    before: Sound | None
    tile: tuple[int, int, int, int]  # as `Tile`
    sample_rate_hz: int


class Picture(BaseModel):
    """How large the PNG is that lies beside this, as `PICTURE`."""

    bytes: int


class Pictures(Analysis[AskedPicture, PictureOf, Picture]):
    """One picture of a strip's spectrogram."""

    name = "picture"
    writes_files = True
    asked, params, result = AskedPicture, PictureOf, Picture

    def question(self, session: RecordedSession, asked: AskedPicture, known: Known) -> PictureOf:
        strip = session.strip(asked.strip_id)
        into, _ = sound_into(session, strip)
        sound = into if asked.shows == "before" else sound_behind(session, strip)[0]
        tile = Tile(asked.time_zoom, asked.column, asked.freq_zoom, asked.row)
        if tile.start_frame >= sound.n_frames:
            raise NotFoundError(
                f"column {tile.column} lies beyond the end of {strip.name}: there is nothing to be seen"
            )
        before = into if asked.shows == "difference" else None
        place = (tile.time_zoom, tile.column, tile.freq_zoom, tile.row)
        return PictureOf(sound=sound, before=before, tile=place, sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: PictureOf) -> Picture:
        tile, rate = Tile(*params.tile), params.sample_rate_hz
        level_db = spectrogram_tile(work.open(params.sound.audio_id), tile, sample_rate_hz=rate)
        if params.before is None:
            png = ink_png(level_db)
        else:
            before = spectrogram_tile(work.open(params.before.audio_id), tile, sample_rate_hz=rate)
            png = difference_png(before, level_db)
        (work.folder / PICTURE).write_bytes(png)
        return Picture(bytes=len(png))

    def foreseen(self, session: RecordedSession) -> Iterable[AskedPicture]:
        for track in session.tracks:
            tile = whole_tile(session.audio_of(track).n_frames)
            yield AskedPicture(strip_id=track.id, time_zoom=tile.time_zoom)
