"""The cellar: what tracks hold below their lowest useful note, and how high each may be cut."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, minimum_filter1d, uniform_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, level_map, window_shares
from mivlo.core.finder.pitch_line import lowest_pitch_hz, pitch_line
from mivlo.core.k_weighting import k_weighting_power
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.roles import VOICES, Role
from mivlo.core.units import Array, Floats

__all__ = ["Cellar", "CellarCut", "CellarTrack", "LowEnd", "PileUp", "clear_the_cellar", "low_end_of", "pile_up"]

# Rules of thumb (common practice, no source): how high a low cut of each role may go. Bass and kick need their lows.
HIGHEST_CUT_HZ: Mapping[Role, float] = {
    "lead voice": 120.0,
    "backing voice": 200.0,
    "kick": 35.0,
    "bass": 35.0,
    "toms": 80.0,
    "snare": 200.0,
    "cymbals": 500.0,
    "drum kit": 35.0,
    "hand percussion": 120.0,
    "acoustic guitar": 150.0,
    "electric guitar": 200.0,
    "keys": 200.0,
    "reeds": 250.0,
    "woodwind": 250.0,
    "strings": 250.0,
    "brass": 250.0,
    "full backing": 40.0,
    "other": 250.0,
}
NEEDS_LOWS: tuple[Role, ...] = ("bass", "kick", "drum kit", "full backing")
GENTLE, STRICT = 12, 24  # dB per octave
BELOW_NOTE = 2.0 ** (-3.0 / 12.0)  # of the lowest note: three semitones below it
NOTE_BELOW_TOP_DB, NOTE_OVER_SIDES_DB = 30.0, 10.0
ENERGY_BELOW = 1e-2  # of a drum, or where no note is seen: what lies below is a hundredth of its strokes
STROKES_FROM, PAUSES_TO, NEARBY_S = 80.0, 30.0, 2.0  # percentiles of the moments nearby: rumble swells too
STROKE_OVER_PAUSE = 3.0  # in power: what stands less over the pauses goes on whatever is played
STRUCK: tuple[Role, ...] = ("kick", "snare", "toms", "cymbals", "drum kit", "hand percussion")
AUDIBLE_DB = -5.0  # of a track beside the rest of the mix in a third of an octave: about a tone's threshold in noise
ALLOWED_LU = 0.5
UNSURE_LU = 0.1  # so far is a loss by the map from one by BS.1770
LOWEST_CUT_HZ, SMALLEST_CUT_HZ = 20.0, 25.0
CUTS_PER_OCTAVE = 6
EVERY_BAND = 5  # of the map: a twelfth of an octave is fine enough for thirds of one
SHOWN_BELOW_HZ = 500.0
ACTIVE_DB = 45.0


@dataclass(frozen=True, slots=True)
class LowEnd:
    """What the low end of a track is by itself, from the session's start on.

    Parameters
    ----------
    lowest_note_hz : where it plays its lowest; None for silence
    low_hz, low_db, low_power : (low bands,) levels for a picture, and the mean power, at 0 dB of its fader
    hz, power : (bands,) and (frames, bands) float32: power in a third of an octave around each, at 0 dB
    """

    lowest_note_hz: float | None
    low_hz: tuple[float, ...]
    low_db: tuple[float, ...]
    low_power: tuple[float, ...]
    hz: Floats
    power: np.ndarray


@dataclass(frozen=True, slots=True)
class CellarTrack:
    """A track as it stands in the mix: its low end, its role and its fader."""

    id: str
    low_end: LowEnd
    role: Role
    gain_db: float


@dataclass(frozen=True, slots=True)
class CellarCut:
    """Two proposals for one track, None where nothing is to be gained; levels of its low end for a picture.

    `low_power` is what it adds to the mix in each of these bands, the mean over the song.
    """

    track_id: str
    needs_lows: bool
    lowest_note_hz: float | None
    safe: LowCut | None
    in_the_mix: LowCut | None
    low_hz: tuple[float, ...]
    low_db: tuple[float, ...]
    low_power: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Cellar:
    """All tracks, and the bands in which their powers are told."""

    tracks: tuple[CellarCut, ...]
    hz: tuple[float, ...]
    sample_rate_hz: float


@dataclass(frozen=True, slots=True)
class PileUp:
    """The lows of all tracks together, levels (bands,) at `hz`: what bass and kick need, and all the others.

    `left_db` is what some cuts leave of the others, `lost_db` by how many dB falls what lies below the tracks' lowest
    notes.
    """

    hz: tuple[float, ...]
    needed_db: tuple[float, ...]
    others_db: tuple[float, ...]
    left_db: tuple[float, ...]
    lost_db: float


def low_end_of(
    source: Source, *, start_frame: int, role: Role, end_frame: int, sample_rate_hz: float
) -> LowEnd:  # fmt: skip
    """Return the low end of a track that starts at a frame of a session, up to another one.

    Raises
    ------
    Nothing: of a silent track there is no lowest note.

    Source: rules of thumb (common practice, no source)
    """
    levels = level_map(_Shifted(source, start_frame), start=0, end=end_frame, sample_rate_hz=sample_rate_hz)
    low = levels.hz < SHOWN_BELOW_HZ
    shares = window_shares(levels.hz, sample_rate_hz=sample_rate_hz)
    power: Floats = np.asarray(10.0 ** (levels.levels_db / 10.0) * shares)
    curve = _loud_curve(levels)
    low_hz, low_db, low_power = (
        tuple(values[low].tolist()) for values in (levels.hz, np.round(curve, 1), power.mean(axis=0))
    )
    thirds = _thirds(power)[:, ::EVERY_BAND].astype(np.float32)
    lowest_hz = None
    if role in VOICES:  # breath and gusts lie below what is sung; an instrument's lowest peak is its lowest note
        shifted = _Shifted(source, start_frame)
        lowest_hz = lowest_pitch_hz(pitch_line(shifted, start=0, end=end_frame, sample_rate_hz=sample_rate_hz))
    return LowEnd(
        lowest_hz or _lowest_note_hz(levels, curve, role),
        low_hz,
        low_db,
        low_power,
        np.asarray(levels.hz[::EVERY_BAND]),
        thirds,
    )


def clear_the_cellar(tracks: Sequence[CellarTrack], *, sample_rate_hz: float) -> Cellar:
    """Return proposals for all tracks of a session.

    Raises
    ------
    Nothing: silent tracks get no proposal.

    Source: rules of thumb (common practice, no source); audibility as a threshold per third of an octave, about 5 dB
    under what masks it (E. Zwicker, H. Fastl, "Psychoacoustics", from memory); loudness by K-weighting (ITU-R
    BS.1770-4)
    """
    if not tracks:
        return Cellar((), (), sample_rate_hz)
    hz = tracks[0].low_end.hz
    gains = [np.float32(10.0 ** (track.gain_db / 10.0)) for track in tracks]
    total = np.sum([gain * track.low_end.power for gain, track in zip(gains, tracks, strict=True)], axis=0)
    weights = k_weighting_power(np.asarray(hz, dtype=np.float64), sample_rate_hz)
    cuts = []
    for gain, track in zip(gains, tracks, strict=True):
        low, power = track.low_end, gain * track.low_end.power
        safe = _safe(track, low.lowest_note_hz, sample_rate_hz)
        mixed = _in_the_mix(track, power, total - power, weights, hz, safe, sample_rate_hz)
        low_power = tuple(float(gain) * one for one in low.low_power)
        cuts.append(
            CellarCut(
                track.id, track.role in NEEDS_LOWS, low.lowest_note_hz, safe, mixed, low.low_hz, low.low_db, low_power
            )
        )
    return Cellar(tuple(cuts), tracks[0].low_end.low_hz, sample_rate_hz)


def pile_up(cellar: Cellar, cuts: Mapping[str, LowCut]) -> PileUp:
    """Return how the lows add up over all tracks, before and after some low cuts by the ids of their tracks.

    Raises
    ------
    Nothing: tracks without a cut stay as they are.

    Source: sums of powers, as of sounds that have nothing to do with each other
    """
    hz = np.array(cellar.hz)
    needed, others, left = (np.zeros(len(hz)) for _ in range(3))
    before = after = 0.0
    for track in cellar.tracks:
        power, cut = np.array(track.low_power), cuts.get(track.track_id)
        kept = power if cut is None else power * _power_response(cut, hz, cellar.sample_rate_hz)
        useless = hz < (track.lowest_note_hz or 0.0) * BELOW_NOTE
        before += float(power[useless].sum())
        after += float(kept[useless].sum())
        if track.needs_lows:
            needed += power
        else:
            others += power
            left += kept
    lost_db = 10.0 * float(np.log10(before / after)) if after > 0.0 else 0.0
    needed_db, others_db, left_db = (
        tuple(np.round(10.0 * np.log10(np.maximum(sums, 1e-16)), 1).tolist()) for sums in (needed, others, left)
    )
    return PileUp(cellar.hz, needed_db, others_db, left_db, lost_db)


@dataclass(frozen=True, slots=True)
class _Shifted:
    """A source as it lies in the session."""

    inner: Source
    start_frame: int

    @property
    def n_channels(self) -> int:
        return self.inner.n_channels

    @property
    def n_frames(self) -> int:
        return self.inner.n_frames + self.start_frame

    def read(self, start: int, n_frames: int) -> Array:
        return self.inner.read(start - self.start_frame, n_frames)


def _thirds(power: Floats) -> Floats:
    """Return the mean power in a third of an octave around every band."""
    return np.asarray(uniform_filter1d(power, 2 * (BANDS_PER_OCTAVE // 6) + 1, axis=1, mode="constant"))


def _loud_curve(levels: LevelMap) -> Floats:
    """Return the level that each band reaches in a thirtieth of the time in which the track sounds."""
    sounds = levels.power_db > levels.power_db.max() - ACTIVE_DB
    return np.asarray(np.percentile(levels.levels_db[sounds], 97.0, axis=0))


def _stroke_power(levels: LevelMap) -> Floats:
    """Return by how much each band's power rises from pauses to strokes: rumble that just goes on is none of theirs."""
    power = 10.0 ** (levels.levels_db / 10.0)
    # By the middle of all bands, as a stroke reaches over most of them: by its power, a moment of much rumble would
    # be one.
    height = np.median(levels.levels_db, axis=1)
    strokes, pauses = np.zeros(power.shape[1]), np.zeros(power.shape[1])
    for part in np.array_split(np.arange(len(height)), max(1, round(len(height) * levels.hop_s / NEARBY_S))):
        own = height[part]
        strokes += power[part][own >= np.percentile(own, STROKES_FROM)].mean(axis=0)
        pauses += power[part][own <= np.percentile(own, PAUSES_TO)].mean(axis=0)
    return np.asarray(np.where(strokes > STROKE_OVER_PAUSE * pauses, strokes - pauses, 0.0))


def _lowest_note_hz(levels: LevelMap, curve: Floats, role: Role) -> float | None:
    """Return the lowest frequency at which the track plays something: a peak that is no mere skirt; None for
    silence."""
    hz = levels.hz
    top = float(curve.max())
    if top < -90.0:
        return None
    # A note is narrow, the thump of a plosive is not; at a bass's lowest notes the windows blur a third of an octave.
    reach = BANDS_PER_OCTAVE // (3 if role in NEEDS_LOWS else 6)
    peaks = (curve >= maximum_filter1d(curve, 5)) & (
        curve - minimum_filter1d(curve, 2 * reach + 1) > NOTE_OVER_SIDES_DB
    )
    notes = np.flatnonzero(peaks & (curve > top - NOTE_BELOW_TOP_DB))
    if len(notes) and role not in STRUCK:
        return float(hz[notes[0]])
    power = np.cumsum(_stroke_power(levels))
    return float(hz[np.searchsorted(power, ENERGY_BELOW * power[-1])]) if power[-1] > 0.0 else None


def _safe(track: CellarTrack, lowest_hz: float | None, rate: float) -> LowCut | None:
    """Return the cut just below the lowest note, no higher than the role's rule of thumb."""
    if lowest_hz is None:
        return None
    hz = min(lowest_hz * BELOW_NOTE, HIGHEST_CUT_HZ[track.role], 0.4 * rate)
    return _cut(hz, STRICT) if hz >= SMALLEST_CUT_HZ else None


def _cut(hz: float, slope: int) -> LowCut:
    return LowCut.model_validate({"hz": round(max(hz, LOWEST_CUT_HZ), 1), "slope_db_per_octave": slope})


def _in_the_mix(
    track: CellarTrack, own: Floats, rest: Floats, weights: Floats, hz: Floats, safe: LowCut | None, rate: float
) -> LowCut | None:  # fmt: skip
    """Return the highest cut at which what is heard of the track beside the others loses surely less than
    ALLOWED_LU."""
    if safe is None:
        return None
    heard = own > rest * 10.0 ** (AUDIBLE_DB / 10.0)
    spectrum = (own * heard).sum(axis=0) * weights
    whole = float(spectrum.sum())
    if whole <= 0.0:
        return safe
    best: LowCut | None = None
    limit_hz = HIGHEST_CUT_HZ[track.role]
    steps = int(np.floor(np.log2(max(limit_hz / SMALLEST_CUT_HZ, 1.0)) * CUTS_PER_OCTAVE))
    for hz_of_cut in [*SMALLEST_CUT_HZ * 2.0 ** (np.arange(steps + 1) / CUTS_PER_OCTAVE), limit_hz]:
        cut = _cut(float(hz_of_cut), GENTLE)
        kept = float((spectrum * _power_response(cut, hz, rate)).sum())
        if 10.0 * np.log10(whole / max(kept, 1e-30)) < ALLOWED_LU - UNSURE_LU:
            best = cut
    return best if best is not None and best.hz >= safe.hz else safe


def _power_response(cut: LowCut, hz: Floats, rate: float) -> Floats:
    return np.asarray(np.abs(cut.response(np.minimum(hz, 0.49 * rate), rate)) ** 2)
