"""What of the mix is gone when both its sides are added up, and by whom."""

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, OfSession, Work
from mivlo.core.engine.audible import audible_tracks
from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_mix
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.units import Array

__all__ = ["MonoLoss", "MonoSum", "MonoSumIn", "MonoSums"]

WINDOW_FRAMES = 8_192
LONGEST_S = 120.0  # in the middle of a song
GONE_DB = -6.0  # of two sides that have nothing in common, 3 dB are gone
HEARD_DB = 50.0  # under the highest third, a loss is not missed
MIDDLES_HZ = 1_000.0 * 2.0 ** (np.arange(-13, 13) / 3.0)
LEAST_SHARE = 0.2  # of the loss, for a track to be named
Spectrum = NDArray[np.complex128]


class MonoSumIn(Frozen):
    """The mix as it stands."""

    mix: Mix
    n_frames: int
    sample_rate_hz: int


class MonoLoss(BaseModel):
    """A third of an octave that falls in mono by so many dB, and the tracks that make it fall, those first that do
    most."""

    low_hz: float
    high_hz: float
    falls_db: float
    track_ids: list[str]


class MonoSum(BaseModel):
    """All thirds that fall further than sides do that have nothing in common."""

    losses: list[MonoLoss]


class MonoSums(Analysis[OfSession, MonoSumIn, MonoSum]):
    """Thirds of octaves in which the half sum lies more than 6 dB under the mean power of the sides."""

    name = "mono-sum"
    asked, params, result = OfSession, MonoSumIn, MonoSum

    def question(self, session: RecordedSession, asked: OfSession, known: Known) -> MonoSumIn:
        n_frames = session.end_frame()
        return MonoSumIn(mix=mix_of_session(session), n_frames=n_frames, sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: MonoSumIn) -> MonoSum:
        rate = params.sample_rate_hz
        hz = np.fft.rfftfreq(WINDOW_FRAMES, 1.0 / rate)
        thirds = [np.abs(np.log2(np.maximum(hz, 1.0) / middle)) <= 1.0 / 6.0 for middle in MIDDLES_HZ]
        sides, common = _powers(_spectra(work, params, params.mix))
        mean_power, mono = sides.mean(axis=0), (sides.sum(axis=0) + 2.0 * common) / 4.0
        levels_db = [10.0 * np.log10(mean_power[one].sum() + 1e-12) for one in thirds]
        found = []
        for index, one in enumerate(thirds):
            falls_db = 10.0 * np.log10((mono[one].sum() + 1e-12) / (mean_power[one].sum() + 1e-12))
            if falls_db < GONE_DB and levels_db[index] > max(levels_db) - HEARD_DB:
                found.append((index, float(falls_db)))
        shares = self._shares(work, params, [thirds[index] for index, _ in found]) if found else {}
        return MonoSum(
            losses=[
                MonoLoss(
                    low_hz=float(MIDDLES_HZ[index] * 2.0 ** (-1.0 / 6.0)),
                    high_hz=float(MIDDLES_HZ[index] * 2.0 ** (1.0 / 6.0)), falls_db=falls_db,
                    track_ids=_named({track_id: share[at] for track_id, share in shares.items()}),
                )
                for at, (index, falls_db) in enumerate(found)
            ]
        )  # fmt: skip

    def _shares(self, work: Work, params: MonoSumIn, thirds: list[np.ndarray]) -> dict[str, list[float]]:
        """Return, for each track that is heard, what it adds to what both sides have in common in some thirds."""
        shares = {}
        tracks = [track_id for track_id, is_heard in audible_tracks(params.mix).items() if is_heard]
        for number, track_id in enumerate(tracks, 1):
            own = params.mix.model_copy(update={"heard_ids": (track_id,)})
            both = np.zeros(WINDOW_FRAMES // 2 + 1)
            for mine, whole in zip(
                _spectra(work, params, own), _spectra(work, params, params.mix), strict=True
            ):  # fmt: skip
                both += np.real(mine[0] * np.conj(whole[1]) + whole[0] * np.conj(mine[1])) / 2.0
            shares[track_id] = [float(both[one].sum()) for one in thirds]
            work.report(number / len(tracks))
        return shares


def _spectra(work: Work, params: MonoSumIn, mix: Mix) -> Iterator[Spectrum]:
    """Yield (2, bins) of windows that follow one another."""
    rate = params.sample_rate_hz
    length = min(params.n_frames, round(LONGEST_S * rate))
    start = (params.n_frames - length) // 2
    window, rest = np.hanning(WINDOW_FRAMES), np.zeros((2, 0))
    for block in render_mix(mix, work.open, start=start, end=start + length, sample_rate_hz=rate):
        rest = np.concatenate([rest, block], axis=1)
        while rest.shape[1] >= WINDOW_FRAMES:
            yield np.fft.rfft(rest[:, :WINDOW_FRAMES] * window, axis=1)
            rest = rest[:, WINDOW_FRAMES // 2 :]


def _powers(spectra: Iterable[Spectrum]) -> tuple[Array, Array]:
    """Return the powers of both sides (2, bins), and what they have in common (bins,)."""
    sides, common = np.zeros((2, WINDOW_FRAMES // 2 + 1)), np.zeros(WINDOW_FRAMES // 2 + 1)
    for one in spectra:
        sides += np.abs(one) ** 2
        common += np.real(one[0] * np.conj(one[1]))
    return sides, common


def _named(shares: dict[str, float]) -> list[str]:
    against = {track_id: -share for track_id, share in shares.items() if share < 0.0}
    whole = sum(against.values())
    return sorted(
        (one for one, share in against.items() if share >= LEAST_SHARE * whole), key=lambda one: -against[one]
    )
