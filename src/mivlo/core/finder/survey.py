"""Survey: listens to a stretch and drafts many shallow cuts: at places that lift what passes, at lines of no note."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, median_filter, minimum_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.errors import ParameterError
from mivlo.core.finder.bells import bell_fit
from mivlo.core.finder.learning import Learned, learn
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, active_frames
from mivlo.core.finder.measures import proud_of, refined_hz
from mivlo.core.finder.place_curve import PlaceCurve
from mivlo.core.moves.base import Keepers
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.plane import Plane
from mivlo.core.roles import Role
from mivlo.core.units import Floats, hz_to_note

__all__ = ["DEEPEST_DB", "DEFAULT_AMOUNT", "MOST_CUTS", "DraftedCut", "Survey", "survey"]

DEFAULT_AMOUNT = 60.0  # per cent
MOST_NOTES = 6  # sounding at once
WEAKEST_NOTE = 0.3  # of the strongest one's salience
MOST_OVERTONES = 28
NEEDED_FELLOWS = 3  # of a root's first six overtones: fewer are no note
TOLERANCE_CENTS, STIFFNESS_CENTS = 14.0, 0.45  # the second times the overtone's number squared: strings are stiff
PROUD_OF_FELLOWS_DB = 14.0  # over the overtones beside it: such a line is more than the note's own
LINE_OVER_SIDES_DB, LINE_BELOW_TOP_DB = 6.0, 55.0
IN_TUNE_CENTS = 14.0  # of equal temperament: a line alone there may be a flute's
ALWAYS = 0.7  # of the time: what never moves is no melody, in tune or not
LEAST_SHARE, LEAST_PROUD_DB = 0.3, 4.5
NOTE_SHARE, NOTE_SHARE_OF_LASTING = 0.15, 0.4  # of a place's power that may belong to notes; of what is there for long
LASTING = 0.45  # of the time
DEEPEST_DB, NARROWEST_Q, WIDEST_Q = 6.0, 40.0, 4.0
MOST_CUTS, CUTS_APART = 24, 4
NARROWEST = 1.25  # from the lower limit to the upper one, as of a plane
LEAST_CUT_DB, FEWEST_FRAMES = 0.1, 8
SURE_ODDS, BELIEF = 0.4, 0.6  # of a line: from these odds on it is cut by all that it stands out by, less before


@dataclass(frozen=True, slots=True)
class DraftedCut:
    """One shallow cut and why: how far it stands out, how sure that is (0 to 1), in a sentence, and the note nearest.

    `share_of_time` is the part of the time in which it sounds.
    """

    move: Bell
    excess_db: float
    sure: float
    share_of_time: float
    reason: str
    nearest_note: str


@dataclass(frozen=True, slots=True)
class Survey:
    """What a survey found: cuts, strongest first; the same as one plane that acts only when needed; the curve."""

    cuts: tuple[DraftedCut, ...]
    plane: Plane
    curve: PlaceCurve


@dataclass(frozen=True, slots=True)
class _Draft:
    """A place that may be cut: its bell as far as it is believed, and why."""

    hz: float
    excess_db: float
    q: float
    sure: float
    share_of_time: float
    reason: str


def survey(
    source: Source, *, start: int, end: int, sample_rate_hz: float, low_hz: float = 150.0, high_hz: float = 10_000.0,
    amount: float = DEFAULT_AMOUNT, most: int = MOST_CUTS, deepest_db: float = DEEPEST_DB, keepers: Keepers = (),
    role: Role | None = None,
) -> Survey:  # fmt: skip
    """Return what a stretch's places add to what passes them, and its lines that belong to no note, as drafts of cuts.

    Parameters
    ----------
    amount : per cent of what a place stands out by, for all cuts alike
    low_hz, high_hz : limits between which is cut
    most : of the cuts, the strongest
    keepers : regions in Hz that no draft may touch
    role : what the track is, where known

    Raises
    ------
    ParameterError: an empty stretch or limits, an amount outside 0 to 100, less than one cut, or a depth below 0

    Source: places as `learn`; notes by iterated sub-harmonic summation, after D. J. Hermes, JASA 83(1), 1988, and
    A. Klapuri, "Multiple fundamental frequency estimation by summing harmonic amplitudes", ISMIR 2006 (both from
    memory)
    """
    if not 0.0 <= amount <= 100.0:
        raise ParameterError(f"amount={amount:g} must be from 0 to 100 %")
    if most < 1:
        raise ParameterError(f"most={most} must be 1 or more")
    if deepest_db < 0.0:
        raise ParameterError(f"deepest_db={deepest_db:g} must be 0 or more")
    top_hz = min(high_hz, 0.45 * sample_rate_hz, 20_000.0)
    if low_hz < 20.0 or top_hz < NARROWEST * low_hz:
        raise ParameterError(
            f"low_hz={low_hz:g} must be 20 or more, and high_hz={high_hz:g} (of this file up to {top_hz:g} counts) at "
            f"least {NARROWEST:g} times that"
        )
    high_hz = top_hz
    learned = learn(
        source, start=start, end=end, sample_rate_hz=sample_rate_hz, low_hz=low_hz, high_hz=high_hz, role=role
    )
    levels = learned.levels
    drafts = [draft for draft in _drafts(levels, learned, low_hz, high_hz) if not _kept(draft.hz, keepers)]
    drafts = _apart(sorted(drafts, key=lambda draft: -draft.excess_db * draft.sure))[:most]
    cuts = [_cut(draft, amount, deepest_db) for draft in drafts]
    plane = learned.in_plane(Plane(low_hz=low_hz, high_hz=high_hz, amount=amount))
    return Survey(tuple(cut for cut in cuts if cut.move.gain_db <= -LEAST_CUT_DB), plane, learned.curve)


def _drafts(levels: LevelMap, learned: Learned, low_hz: float, high_hz: float) -> list[_Draft]:
    """Return all that may be cut, several for one place perhaps."""
    sounding = active_frames(levels)
    drafts = []
    for line in learned.lines:
        band = int(np.argmin(np.abs(np.log2(levels.hz / line.hz))))
        share = float(np.mean(proud_of(levels, band)[sounding] > LEAST_PROUD_DB)) if len(sounding) else 0.0
        reason = (
            f"a line that behaves like a fault ({100 * line.odds:.0f} %), {line.bell.gain_db:.0f} dB over its sides"
        )
        drafts.append(
            _Draft(line.hz, line.bell.gain_db, line.bell.q, min(line.odds / SURE_ODDS, 1.0) ** BELIEF, share, reason)
        )
    tops = np.flatnonzero(
        (learned.of_curve_db > 0.0) & (learned.of_curve_db >= maximum_filter1d(learned.of_curve_db, 2 * CUTS_APART + 1))
    )
    for band in map(int, tops):
        lifts_db = float(learned.of_curve_db[band])
        q = float(np.clip(bell_fit(learned.curve.db, band).q, WIDEST_Q, NARROWEST_Q))
        reason = f"this place lifts what passes it by {lifts_db:.0f} dB, whichever note it is"
        drafts.append(_Draft(float(levels.hz[band]), lifts_db, q, float(learned.curve.sure[band]), 1.0, reason))
    if len(sounding) >= FEWEST_FRAMES:
        x = levels.levels_db[sounding]
        lines = _lines(x)
        drafts += _stray(levels, x, lines, lines & ~_belongs_to_notes(lines, x), low_hz, high_hz)
    return drafts


def _apart(drafts: list[_Draft]) -> list[_Draft]:
    """Return drafts without those that lie beside one that stands before them."""
    kept: list[_Draft] = []
    for draft in drafts:
        if all(abs(np.log2(draft.hz / other.hz)) * BANDS_PER_OCTAVE > CUTS_APART for other in kept):
            kept.append(draft)
    return kept


def _kept(hz: float, keepers: Keepers) -> bool:
    return any(low <= hz <= high for low, high in keepers)


def _cut(draft: _Draft, amount: float, deepest_db: float) -> DraftedCut:
    depth_db = round(min(draft.excess_db * draft.sure * amount / 100.0, deepest_db), 1)
    note, off = hz_to_note(draft.hz)
    move = Bell(hz=round(draft.hz, 2), gain_db=-depth_db, q=round(draft.q, 1))
    return DraftedCut(
        move, draft.excess_db, draft.sure, draft.share_of_time, draft.reason, f"{note} {off:+.0f} ct"
    )  # fmt: skip


def _lines(x: Floats) -> np.ndarray:
    """Return where (frames, bands) a line stands: a peak over its sides that is not far below the loudest."""
    peak = (x >= maximum_filter1d(x, 5, axis=1)) & (x - minimum_filter1d(x, 21, axis=1) > LINE_OVER_SIDES_DB)
    return np.asarray(peak & (x > x.max(axis=1, keepdims=True) - LINE_BELOW_TOP_DB))


def _belongs_to_notes(lines: np.ndarray, x: Floats) -> np.ndarray:
    """Return where a line lies on the overtone series of a note that sounds in its frame, the strongest notes first."""
    n_frames, n_bands = lines.shape
    height = np.where(lines, np.clip(x - x.max() + 70.0, 0.0, 70.0), 0.0).astype(np.float32)
    place = _refined(x)
    left, owned = height.copy(), np.zeros(lines.shape, dtype=bool)
    offsets = BANDS_PER_OCTAVE * np.log2(np.arange(1, MOST_OVERTONES + 1))
    rows = np.arange(n_frames)
    first: Floats = np.zeros(n_frames)
    for number in range(MOST_NOTES):
        salience = _salience(left, offsets)
        roots = salience.argmax(axis=1)
        best = salience[rows, roots]
        first = best if number == 0 else first
        heard = best > WEAKEST_NOTE * first
        if not heard.any():
            break
        at_root = place[rows, _nearest_line(left, roots)]
        heights, bands = np.zeros((MOST_OVERTONES, n_frames)), np.zeros((MOST_OVERTONES, n_frames), dtype=int)
        for h, offset in enumerate(offsets, 1):
            bands[h - 1] = _nearest_line(height, np.minimum(np.round(at_root + offset).astype(int), n_bands - 1))
            off_cents = 20.0 * (place[rows, bands[h - 1]] - at_root - offset)
            fits = (off_cents > -TOLERANCE_CENTS) & (off_cents < TOLERANCE_CENTS + STIFFNESS_CENTS * h * h)
            heights[h - 1] = np.where(fits & heard, height[rows, bands[h - 1]], 0.0)
        usual = median_filter(heights, (5, 1), mode="nearest")
        series = (heights > 0.0) & (heights < np.maximum(usual, 1.0) + PROUD_OF_FELLOWS_DB)
        series[:3] = heights[:3] > 0.0  # the first overtones of a note differ as they like
        for bands_of_h, in_series in zip(bands, series, strict=True):
            owned[rows[in_series], bands_of_h[in_series]] = True
            left[rows[in_series], bands_of_h[in_series]] = 0.0
        left[rows, roots] = 0.0
    return owned


def _refined(x: Floats) -> Floats:
    """Return every band's place moved to the maximum of the parabola through it and its neighbours, by half a band at
    most."""
    bend = x[:, :-2] - 2.0 * x[:, 1:-1] + x[:, 2:]
    part = np.where(bend < -1e-6, 0.5 * (x[:, :-2] - x[:, 2:]) / np.minimum(bend, -1e-6), 0.0)
    place = np.tile(np.arange(x.shape[1], dtype=np.float64), (len(x), 1))
    place[:, 1:-1] += np.clip(part, -0.5, 0.5)
    return place


def _salience(left: Floats, offsets: Floats) -> Floats:
    """Return how much of a note with enough fellows stands on every band as its root."""
    n_bands = left.shape[1]
    near = maximum_filter1d(left, 3, axis=1)
    salience, fellows = np.zeros_like(left), np.zeros(left.shape, dtype=np.int8)
    for number, offset in enumerate(np.round(offsets[:12]).astype(int)):
        part = near[:, offset:]
        salience[:, : n_bands - offset] += np.float32(0.88**number) * part
        if number < 6:
            fellows[:, : n_bands - offset] += part > 0.0
    salience[(fellows < NEEDED_FELLOWS) | (near <= 0.0)] = 0.0
    return salience


def _nearest_line(height: Floats, bands: np.ndarray) -> np.ndarray:
    """Return, for each frame, the highest line within a band of a place."""
    rows = np.arange(len(bands))
    around = np.clip(bands[:, None] + np.array([0, -1, 1]), 0, height.shape[1] - 1)
    return np.asarray(around[rows, height[rows[:, None], around].argmax(axis=1)])


def _stray(
    levels: LevelMap, x: Floats, lines: np.ndarray, stray: np.ndarray, low_hz: float, high_hz: float
) -> list[_Draft]:  # fmt: skip
    """Return what lines (frames, bands) that belong to no note leave to be cut."""
    hz = levels.hz
    power = 10.0 ** (x / 10.0)
    near = maximum_filter1d(stray, 3, axis=1)
    share = near.mean(axis=0)
    of_notes = (power * maximum_filter1d(lines & ~stray, 5, axis=1)).sum(axis=0)
    of_strays = (power * near).sum(axis=0)
    cents = 1_200.0 * np.log2(hz / 440.0)
    in_tune = np.abs((cents + 50.0) % 100.0 - 50.0) < IN_TUNE_CENTS
    allowed = (hz >= low_hz) & (hz <= high_hz) & (share >= LEAST_SHARE) & ((share >= ALWAYS) | ~in_tune)
    allowed &= of_notes < np.where(share >= LASTING, NOTE_SHARE_OF_LASTING, NOTE_SHARE) * (of_notes + of_strays)
    weight = np.where(allowed, of_strays, 0.0)
    drafts = []
    for band in np.flatnonzero((weight > 0.0) & (weight >= maximum_filter1d(weight, 2 * CUTS_APART + 1))):
        curve = np.asarray(x[near[:, band]].mean(axis=0), dtype=np.float64)
        fit = bell_fit(curve, int(band))
        if fit.gain_db >= LEAST_PROUD_DB:
            q = float(np.clip(fit.q, WIDEST_Q, NARROWEST_Q))
            reason = f"belongs to no note that sounds with it, {100 * share[band]:.0f} % of the time"
            drafts.append(_Draft(refined_hz(hz, curve, int(band)), fit.gain_db, q, 1.0, float(share[band]), reason))
    return drafts
