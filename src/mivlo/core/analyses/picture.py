"""Pictures of the spectrogram's pyramid; a picture's opacity is the ink."""

from collections.abc import Iterable
from typing import Generic, Literal, TypeVar

from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, OfSession, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_behind, sound_into
from mivlo.core.errors import NotFoundError
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.spectra.pictures import COARSEST_ZOOM, Tile, difference_png, ink_png, spectrogram_tile, whole_tile

__all__ = ["PICTURE", "AskedPicture", "Drawn", "Picture", "PictureOf", "Pictures", "Place", "Shows"]

PICTURE = "picture.png"
Shows = Literal["before", "after", "difference"]
Asked = TypeVar("Asked", bound=OfSession)


class Place(Frozen):
    """A place in the pyramid, as `Tile`."""

    time_zoom: int = Field(ge=0, le=COARSEST_ZOOM)
    column: int = Field(default=0, ge=0, le=100_000)
    freq_zoom: int = Field(default=0, ge=0, le=5)
    row: int = Field(default=0, ge=0, le=31)


class AskedPicture(OfStrip):
    """A place in the pyramid of a strip before its moves, after them, or of what lies between the two."""

    shows: Shows = "before"
    place: Place


class PictureOf(Frozen):
    """A place in the pyramid of a sound, or of its difference from another one."""

    sound: Sound
    before: Sound | None
    place: Place
    sample_rate_hz: int


class Picture(BaseModel):
    """How large the PNG is that lies beside this, as `PICTURE`."""

    bytes: int


class Drawn(Analysis[Asked, PictureOf, Picture], Generic[Asked]):
    """Analyses that draw one picture of a spectrogram."""

    version = 2
    writes_files = True
    params, result = PictureOf, Picture

    @staticmethod
    def of(before: Sound, after: Sound, shows: Shows, place: Place, sample_rate_hz: int) -> PictureOf:
        """Return what is drawn of two sounds. Raises NotFoundError where both have ended. Source: ours."""
        sound = before if shows == "before" else after
        if _tile_of(place).start_frame >= sound.n_frames:
            raise NotFoundError(f"column {place.column} lies beyond the end of the sound: there is nothing to be seen")
        other = before if shows == "difference" else None
        return PictureOf(sound=sound, before=other, place=place, sample_rate_hz=sample_rate_hz)

    def analyse(self, work: Work, params: PictureOf) -> Picture:
        tile, rate = _tile_of(params.place), params.sample_rate_hz
        level_db = spectrogram_tile(work.open(params.sound.audio_id), tile, sample_rate_hz=rate)
        if params.before is None:
            png = ink_png(level_db)
        else:
            before = spectrogram_tile(work.open(params.before.audio_id), tile, sample_rate_hz=rate)
            png = difference_png(before, level_db)
        (work.folder / PICTURE).write_bytes(png)
        return Picture(bytes=len(png))


def _tile_of(place: Place) -> Tile:
    return Tile(place.time_zoom, place.column, place.freq_zoom, place.row)


class Pictures(Drawn[AskedPicture]):
    """One picture of a strip's spectrogram."""

    name = "picture"
    asked = AskedPicture

    def question(self, session: RecordedSession, asked: AskedPicture, known: Known) -> PictureOf:
        strip = session.strip(asked.strip_id)
        (before, _), (after, _) = sound_into(session, strip), sound_behind(session, strip)
        return self.of(before, after, asked.shows, asked.place, session.sample_rate_hz)

    def foreseen(self, session: RecordedSession) -> Iterable[AskedPicture]:
        for track in session.tracks:
            tile = whole_tile(session.audio_of(track).n_frames)
            yield AskedPicture(strip_id=track.id, place=Place(time_zoom=tile.time_zoom))
