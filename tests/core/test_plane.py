"""The plane on material with something planted, and on music with nothing planted."""

import numpy as np
import pytest

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_moves, render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.filters.matched import plain_bell
from mivlo.core.model import Keeper, LedgerEntry, Track
from mivlo.core.moves.plane import Plane

from .phrases import RATE, phrase, pink

FULL = Plane()
# Sampled instruments that play a clean phrase each: program of the bank and notes.
PHRASES = {
    "violin": (40, (67, 71, 74, 79, 78, 74, 72, 69)),
    "flute": (73, (72, 76, 79, 84, 83, 79)),
    "clarinet": (71, (60, 64, 67, 72, 71, 67, 65, 62, 60, 67)),
    "accordion": (21, (60, 64, 67, 72, 71, 67, 65, 62, 60, 67)),
    "oboe": (68, (67, 69, 72, 74, 72, 69)),
    "alto saxophone": (65, (60, 62, 64, 67, 64)),
    "guitar": (24, (52, 55, 59, 64, 62, 59, 55, 52)),
    "piano": (0, (48, 55, 60, 64, 67, 72)),
    "harmonica": (22, (60, 64, 67, 72, 67, 64)),
}


def run(x: np.ndarray, *moves) -> np.ndarray:
    return np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE)), axis=1)


def glide(x: np.ndarray, start_s: float, *, seconds: float = 4.0) -> tuple[np.ndarray, np.ndarray]:
    """Plant +12 dB of Q 20 that glides from 1.5 to 3 kHz, by windows of a quarter of its own time in a place."""
    n = x.shape[1]
    hz = 1_500.0 * 2.0 ** np.clip((np.arange(n) / RATE - start_s) / seconds, 0.0, 1.0)
    out, size, hop = np.zeros_like(x), 2_048, 128
    window = np.hanning(size + 1)[:size] / (size / hop / 2)
    freqs_hz = np.fft.rfftfreq(4 * size, 1 / RATE)
    for at in range(0, n - size, hop):
        middle = at + size // 2
        if not start_s * RATE <= middle <= (start_s + seconds) * RATE:
            out[:, at : at + size] += x[:, at : at + size] * window
            continue
        h = np.abs(
            frequency_response([plain_bell(hz[middle], 12.0, 20.0, sample_rate_hz=RATE)], freqs_hz, sample_rate_hz=RATE)
        )
        piece = np.fft.irfft(np.fft.rfft(np.pad(x[:, at : at + size] * window, ((0, 0), (size, 2 * size)))) * h)[
            :, : 3 * size
        ]
        low, high = max(at - size, 0), min(at + 2 * size, n)
        out[:, low:high] += piece[:, low - at + size : high - at + size]
    return out, hz


def along(x: np.ndarray, hz: np.ndarray, start_s: float, end_s: float) -> float:
    """Return the power in the band, half as wide as the planted bell at half its gain each way, that follows hz."""
    n, total = 2_048, 0.0
    window, freqs_hz = np.hanning(n), np.fft.rfftfreq(n, 1 / RATE)
    for at in range(round(start_s * RATE) - n // 2, round(end_s * RATE) - n // 2, 256):
        here = hz[at + n // 2]
        chosen = np.abs(freqs_hz - here) <= here / 40.0 + 12.0
        total += float(np.sum(np.abs(np.fft.rfft(x[:, at : at + n] * window, axis=1))[:, chosen] ** 2))
    return total


@pytest.mark.parametrize("material", ["pink noise", "trombone"])
def test_a_gliding_resonance_comes_down_by_8_db_from_60_ms_after_it_appears(material):
    x = pink(5.0) if material == "pink noise" else phrase(57, (46,), length_s=5.2)[0][:, : 5 * RATE]
    planted, hz = glide(x, 0.4)
    gone = 10 * np.log10(along(run(planted, FULL), hz, 0.46, 4.3) / along(planted, hz, 0.46, 4.3))
    assert gone < -8.0
    if material == "pink noise":  # from early on: the first tenth of a second is no worse
        assert 10 * np.log10(along(run(planted, FULL), hz, 0.46, 0.56) / along(planted, hz, 0.46, 0.56)) < -6.0


def test_unplanted_pink_noise_keeps_its_spectrum_within_half_a_db_in_every_third_of_an_octave():
    # Bands of IEC 61260-1: exact base-ten thirds (references.md 3.10).
    x = pink(10.0, seed=3)
    before, after = (np.sum(np.abs(np.fft.rfft(s, axis=1)) ** 2, axis=0) for s in (x, run(x, FULL)))
    freqs_hz = np.fft.rfftfreq(x.shape[1], 1 / RATE)
    for n in range(-16, 14):
        centre = 1_000.0 * 10.0 ** (n / 10.0)
        band = (freqs_hz > centre * 10**-0.05) & (freqs_hz < centre * 10**0.05)
        if band.any() and centre * 10**0.05 < RATE / 2:
            assert abs(10 * np.log10(after[band].sum() / before[band].sum())) < 0.5, centre


@pytest.mark.parametrize("name", PHRASES)
def test_no_played_partial_of_a_clean_phrase_loses_more_than_1_5_db(name):
    x, notes = phrase(*PHRASES[name])
    y = run(x, FULL)
    for start_s, end_s, f0 in notes:
        part = slice(round((start_s + 0.03) * RATE), round(end_s * RATE))
        window = np.hanning(part.stop - part.start)
        before, after = (np.sum(np.abs(np.fft.rfft(s[:, part] * window, axis=1)) ** 2, axis=0) for s in (x, y))
        freqs_hz = np.fft.rfftfreq(len(window), 1 / RATE)
        for n in range(1, 25):
            band = np.abs(freqs_hz - n * f0) < max(0.015 * n * f0, 6.0)
            if n * f0 < 12_000 and before[band].max() > 1e-4 * before.max():  # down to 40 dB under the loudest
                assert 10 * np.log10(after[band].sum() / before[band].sum()) > -1.5, (f0, n)


@pytest.mark.parametrize(("name", "program", "notes"), [("guitar", 24, (52, 55, 59, 64)), ("piano", 0, (60, 64, 67))])
def test_attacks_keep_their_crest_factor_within_half_a_db(name, program, notes):
    x, played = phrase(program, notes)
    y = run(x, FULL)
    for start_s, _, _ in played:
        part = slice(round((start_s - 0.005) * RATE), round((start_s + 0.06) * RATE))
        crest = [20 * np.log10(np.max(np.abs(s[:, part])) / np.sqrt(np.mean(s[:, part] ** 2))) for s in (x, y)]
        assert abs(crest[1] - crest[0]) < 0.5


def test_a_click_leaves_nothing_outside_the_window():
    x = np.zeros((2, RATE))
    x[:, 24_000] = 1.0
    y = run(x, FULL.model_copy(update={"low_hz": 20.0, "high_hz": 20_000.0}))
    outside = np.ones(RATE, dtype=bool)
    outside[24_000 - 2_048 : 24_000 + 2_048] = False
    assert 20 * np.log10(np.max(np.abs(y[:, outside])) + 1e-12) < -60.0


def test_what_is_switched_off_or_kept_is_left_alone_and_both_channels_are_treated_alike():
    planted, hz = glide(pink(3.0), 0.2, seconds=2.5)
    assert np.array_equal(run(planted, FULL.model_copy(update={"on": False})), planted)
    assert np.array_equal(run(planted, FULL.model_copy(update={"amount": 0.0})), planted)
    keepers = (Keeper(low_hz=1_400, high_hz=3_200),)
    track = Track(id="a", audio_id="a", ledger=(LedgerEntry(id="p", move=FULL),), keepers=keepers)
    source = ArraySource(planted)
    kept = np.concatenate(
        list(render_track(Mix(tracks=(track,)), "a", lambda _: source, start=0, end=3 * RATE, sample_rate_hz=RATE)),
        axis=1,
    )
    assert abs(10 * np.log10(along(kept, hz, 0.3, 2.4) / along(planted, hz, 0.3, 2.4))) < 0.05
    # Planted in one channel only, the other takes the same gains: so both fall by as much where it is.
    one = np.array([planted[0], pink(3.0)[1]])
    out = run(one, FULL)
    fall = [10 * np.log10(along(out[c : c + 1], hz, 0.3, 2.4) / along(one[c : c + 1], hz, 0.3, 2.4)) for c in (0, 1)]
    assert fall[0] < -2.0
    assert fall[0] == pytest.approx(fall[1], abs=1.5)
