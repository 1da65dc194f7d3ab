"""The engine: the same samples however they are cut, changes without clicks, the guard, offcuts."""

import numpy as np
import pytest
import scipy.signal

from mivlo.core.engine.mix import GuardReference, Mix, Probe
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_mix, render_moves, replay
from mivlo.core.engine.source import SEAM_FRAMES, ArraySource
from mivlo.core.engine.strip import pan_gains
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.k_weighting import power_to_lufs
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.loudness import momentary_powers, true_peak_db
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.processors.chain import Chain, KeyedSection

RATE = 48_000
BELLS = (Bell(hz=431, gain_db=-9, q=8), Bell(hz=3_000, gain_db=4, q=1.5), LowCut(hz=80, slope_db_per_octave=24))


def noise(seconds: float, channels: int = 2, seed: int = 3, level: float = 0.1) -> np.ndarray:
    return level * np.random.default_rng(seed).standard_normal((channels, round(seconds * RATE)))


def strip(track_id: str, *moves, **fields) -> Track:
    ledger = tuple(LedgerEntry(id=f"{track_id}{i}", move=move) for i, move in enumerate(moves))
    return Track(id=track_id, audio_id=track_id, ledger=ledger, **fields)


@pytest.fixture
def sources():
    made = {"a": ArraySource(noise(4.0)), "b": ArraySource(noise(3.0, 1, seed=4)), "c": ArraySource(noise(4.0, seed=5))}
    return made.__getitem__


@pytest.fixture
def mix():
    tracks = (strip("a", *BELLS), strip("b", BELLS[1], start_frame=1_234, pan=-0.4, gain_db=-3), strip("c"))
    return Mix(tracks=tracks, match_db=-1.5)


def in_random_blocks(player: Player, n_frames: int, seed: int) -> np.ndarray:
    random, parts, have = np.random.default_rng(seed), [], 0
    while have < n_frames:
        count = min(int(random.integers(1, 3_000)), n_frames - have)
        parts.append(player.render(count))
        have += count
    return np.concatenate(parts, axis=1)


def test_results_do_not_depend_on_the_block_size(sources, mix):
    whole = Player(mix, sources, start_frame=9_600, sample_rate_hz=RATE).render(60_000)
    for seed in range(3):
        player = Player(mix, sources, start_frame=9_600, sample_rate_hz=RATE)
        assert np.array_equal(in_random_blocks(player, 60_000, seed), whole)
    rendered = np.concatenate(list(render_mix(mix, sources, start=9_600, end=69_600, sample_rate_hz=RATE)), axis=1)
    assert np.array_equal(rendered, whole)


def test_probes_that_are_held_add_to_the_one_that_moves(sources):
    held = tuple(Probe(track_id="c", hz=hz, kind="dip", amount_db=24) for hz in (500.0, 4_000.0))
    mix = Mix(tracks=(strip("c"),), held_probes=held, guard=GuardReference(loudness_lufs=-10.0))
    dipped = Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(96_000)
    plain = Player(Mix(tracks=(strip("c"),)), sources, start_frame=0, sample_rate_hz=RATE).render(96_000)
    hz, before = scipy.signal.welch(plain[0], RATE, nperseg=8192)
    _, after = scipy.signal.welch(dipped[0], RATE, nperseg=8192)
    change = 10 * np.log10(after / before)
    for at, wanted in ((500.0, -20.0), (4_000.0, -20.0)):
        assert change[np.argmin(np.abs(hz - at))] < wanted
    assert abs(change[np.argmin(np.abs(hz - 1_500.0))]) < 1.5


def test_play_with_changes_equals_the_replay_of_its_log(sources, mix):
    looped = mix.model_copy(update={"loop_start_frame": 10_000, "loop_end_frame": 40_000})
    moved = looped.model_copy(update={"tracks": (strip("a", BELLS[1], BELLS[2]), *looped.tracks[1:])})
    probed = moved.model_copy(update={"probe": Probe(track_id="a", hz=700), "guard": GuardReference(loudness_lufs=-20)})
    alone = looped.model_copy(update={"alone_track_id": "b", "dim": True})
    player = Player(looped, sources, start_frame=12_000, sample_rate_hz=RATE)
    parts, log = [], []
    for changed, count in ((moved, 7_000), (probed, 5_001), (moved, 30_011), (alone, 999), (looped, 40_000)):
        log.append((player.frame, changed))
        player.apply(changed)
        parts.append(player.render(count))
    played = np.concatenate(parts, axis=1)
    again = replay(looped, log, sources, start_frame=12_000, n_frames=played.shape[1], sample_rate_hz=RATE)
    assert np.array_equal(again, played)


def test_the_engine_filters_as_scipy_does():
    x = noise(1.0)
    sections = [s for move in BELLS for s in move.sections(RATE)]
    got = np.concatenate(list(render_moves(ArraySource(x), BELLS, sample_rate_hz=RATE)), axis=1)
    sos = [[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in sections]
    assert np.max(np.abs(got - scipy.signal.sosfilt(sos, x, axis=1))) < 1e-9


def beyond(x: np.ndarray, hz: float, away_hz: float, frames: int) -> float:
    """Return the highest level (dB under the tone) further than away_hz from the tone, over all windows."""
    window = np.kaiser(frames, 14.0)
    spectrum_hz = np.fft.rfftfreq(frames, 1 / RATE)
    far = np.abs(spectrum_hz - hz) > away_hz
    reference = np.max(np.abs(np.fft.rfft(np.sin(2 * np.pi * hz * np.arange(frames) / RATE) * window)))
    starts = range(0, len(x) - frames, frames // 8)
    worst = max(np.max(np.abs(np.fft.rfft(x[s : s + frames] * window))[far]) for s in starts)
    return float(20 * np.log10(worst / reference))


def test_a_moved_bell_does_not_click():
    # The issue's own figure: +12 dB, Q 4, 1 -> 4 kHz over a 100 Hz sine leaves nothing above -80 dB beyond 60 Hz.
    tone = np.sin(2 * np.pi * 100 * np.arange(3 * RATE) / RATE)[None, :]
    for first, then in (((1_000, 12.0), (4_000, 12.0)), ((300, 12.0), (300, -12.0)), ((2_000, 12.0), (2_000, 0.0))):
        chain = Chain(1, RATE, [KeyedSection("k", s) for s in Bell(hz=first[0], gain_db=first[1], q=4).sections(RATE)])
        x = tone.copy()
        chain.process(x[:, : RATE + 32 * CONTROL_FRAMES])
        chain.set_sections([KeyedSection("k", s) for s in Bell(hz=then[0], gain_db=then[1], q=4).sections(RATE)])
        chain.process(x[:, RATE + 32 * CONTROL_FRAMES :])
        if first[0] >= 1_000:
            assert beyond(x[0, RATE // 2 :], 100.0, 60.0, 8_192) < -80.0
        assert np.max(np.abs(np.diff(x[0, RATE // 2 :], 2))) < 2.5 * np.max(np.abs(np.diff(tone[0], 2))) * 10 ** (
            12 / 20
        )


def test_switching_crossfades_in_ten_milliseconds_and_ends_exactly():
    x = noise(0.5, 1)
    section = Bell(hz=500, gain_db=-24, q=0.5).sections(RATE)
    chain = Chain(1, RATE, [KeyedSection("k", s) for s in section])
    y = x.copy()
    chain.process(y[:, :6_400])
    chain.set_sections([KeyedSection("k", s, on=False) for s in section])
    chain.process(y[:, 6_400:])
    assert np.array_equal(y[:, 6_400 + 480 + CONTROL_FRAMES :], x[:, 6_400 + 480 + CONTROL_FRAMES :])
    assert not np.array_equal(y[:, 6_400:6_700], x[:, 6_400:6_700])


def test_a_loop_is_crossfaded_and_carries_on(sources):
    tone = ArraySource(0.5 * np.sin(2 * np.pi * 437.3 * np.arange(2 * RATE) / RATE)[None, :])
    mix = Mix(tracks=(strip("t"),), loop_start_frame=6_400, loop_end_frame=25_600)
    out = Player(mix, lambda _: tone, start_frame=6_400, sample_rate_hz=RATE).render(3 * 19_200)[0]
    steady = np.max(np.abs(np.diff(out[:10_000], 2)))
    assert np.max(np.abs(np.diff(out, 2))) < 4 * steady  # a bare cut jumps by up to 1, which is 300 times this
    assert np.array_equal(out[SEAM_FRAMES:15_000], out[2 * 19_200 + SEAM_FRAMES : 2 * 19_200 + 15_000])


def test_the_probe_stays_under_its_guard():
    # A weak ring under noise, lifted by 30 dB: +6 LU over the un-probed loudness at most (definitions), no peak over
    # -1 dBTP.
    x = noise(6.0, level=0.02)
    x += 0.05 * np.sin(2 * np.pi * 431 * np.arange(x.shape[1]) / RATE)
    source = ArraySource(x)
    quiet = Mix(tracks=(strip("a"),))
    powers = momentary_powers(x, sample_rate_hz=RATE)
    reference = GuardReference(
        loudness_lufs=float(power_to_lufs(np.array([powers.mean()]))[0]), true_peak_db=true_peak_db(x)
    )
    player = Player(quiet.model_copy(update={"guard": reference}), lambda _: source, start_frame=0, sample_rate_hz=RATE)
    parts = [player.render(RATE)]
    for hz in np.geomspace(200, 431, 20):
        probe = Probe(track_id="a", hz=float(hz), amount_db=30, width_octaves=0.1)
        player.apply(quiet.model_copy(update={"guard": reference, "probe": probe}))
        parts.append(player.render(7_200))
    out = np.concatenate(parts, axis=1)
    momentary = power_to_lufs(momentary_powers(out, sample_rate_hz=RATE))
    assert np.max(momentary) > reference.loudness_lufs + 3.0  # the probe is heard
    assert np.max(momentary) <= reference.loudness_lufs + 6.0
    assert true_peak_db(out) <= max(-1.0, reference.true_peak_db) + 0.01


def test_a_probe_in_a_passage_far_louder_than_the_song_is_turned_down_and_not_silenced():
    source, reference = ArraySource(noise(3.0, level=0.1)), GuardReference(loudness_lufs=-45.0, true_peak_db=-20.0)
    mix = Mix(tracks=(strip("a"),), guard=reference)
    player = Player(mix, lambda _: source, start_frame=0, sample_rate_hz=RATE)
    player.render(RATE)
    player.apply(mix.model_copy(update={"probe": Probe(track_id="a", hz=431.0, amount_db=15, width_octaves=0.25)}))
    out, guard_db = [], []
    for _ in range(RATE // 960):
        out.append(player.render(960))
        guard_db.append(player.guard.gain_db)
    levels_db = [20 * np.log10(np.sqrt(np.mean(part**2))) for part in out]
    assert min(levels_db[1:]) > -70.0
    assert min(guard_db) > -60.0
    momentary = power_to_lufs(momentary_powers(np.concatenate(out, axis=1), sample_rate_hz=RATE))
    assert np.max(momentary[-10:]) <= reference.loudness_lufs + 6.0


def test_the_guard_leaves_alone_what_is_not_probed(sources, mix):
    plain = Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(20_000)
    reference = mix.model_copy(update={"guard": GuardReference(loudness_lufs=-60.0, true_peak_db=-40.0)})
    assert np.array_equal(Player(reference, sources, start_frame=0, sample_rate_hz=RATE).render(20_000), plain)


def test_offcuts_are_what_the_moves_take_away(sources):
    cut = Bell(hz=1_000, gain_db=-12, q=2)
    mix = Mix(tracks=(strip("a", cut),), offcuts_track_id="a")
    out = Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(3 * RATE)[0]
    x = sources("a").read(0, 3 * RATE)[0]
    size = 16_384
    spectrum = [scipy.signal.welch(s, RATE, nperseg=size)[1] for s in (out, x)]
    hz = np.fft.rfftfreq(size, 1 / RATE)
    h = np.abs(frequency_response(cut.sections(RATE), hz, sample_rate_hz=RATE))
    wanted = 20 * np.log10(np.maximum(np.abs(1 - h), 1e-9))
    got = 10 * np.log10(spectrum[0] / spectrum[1])
    chosen = (hz > 300) & (hz < 3_000)
    assert np.max(np.abs(got - wanted)[chosen]) < 0.3
    # Time-aligned: the taken part correlates with the source at no delay.
    delay = np.argmax(np.correlate(out[8_000:24_000], x[8_000:24_000], "full")) - 15_999
    assert abs(delay) <= 1


def test_pan_is_constant_power_for_mono_and_balance_for_stereo():
    for pan in np.linspace(-1, 1, 9):
        left, right = pan_gains(float(pan), n_channels=1)
        assert left**2 + right**2 == pytest.approx(2.0)
    assert pan_gains(0.0, n_channels=1) == (1.0, 1.0)
    assert pan_gains(0.5, n_channels=2) == (0.5, 1.0)


def test_who_is_heard(sources):
    def loud(mix: Mix) -> bool:
        return bool(np.any(Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(6_400)))

    assert not loud(Mix(tracks=(strip("a", mute=True),)))
    assert not loud(Mix(tracks=(strip("a", mute=True, solo=True),)))
    assert loud(Mix(tracks=(strip("a", mute=True),), alone_track_id="a"))
    both = Mix(tracks=(strip("a", gain_db=-60), strip("c", solo=True)))
    only = Player(both, sources, start_frame=0, sample_rate_hz=RATE).render(6_400)
    assert np.array_equal(only, sources("c").read(0, 6_400))


def test_polarity_cancels(sources):
    mix = Mix(tracks=(strip("a"), Track(id="z", audio_id="a", polarity_flipped=True)))
    assert not np.any(Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(6_400))


def response_db(mix: Mix, hz: np.ndarray) -> np.ndarray:
    """Return what a mix does to an impulse, in dB at some frequencies (read after 1.5 s of silence)."""
    x = np.zeros((2, 6 * RATE))
    x[:, 2 * RATE] = 1.0
    start = 3 * RATE // 2 // CONTROL_FRAMES * CONTROL_FRAMES
    out = Player(mix, lambda _: ArraySource(x), start_frame=start, sample_rate_hz=RATE).render(4 * RATE)[0]
    spectrum = np.abs(np.fft.rfft(out))
    return 20 * np.log10(np.maximum(spectrum[np.round(hz * 4).astype(int)], 1e-9))


def test_probes_lift_dip_or_leave_only_their_slice():
    hz = np.array([200.0, 400.0, 1_000.0, 2_500.0, 5_000.0])
    open_guard = GuardReference(loudness_lufs=40.0, true_peak_db=60.0)  # nothing to hold back here

    def probed(kind: str) -> np.ndarray:
        probe = Probe(track_id="a", kind=kind, hz=1_000, amount_db=15, width_octaves=0.25)
        return response_db(Mix(tracks=(strip("a"),), probe=probe, guard=open_guard), hz)

    assert probed("lift")[2] == pytest.approx(15.0, abs=0.05)
    assert probed("dip")[2] == pytest.approx(-15.0, abs=0.05)
    assert probed("lift")[[0, 4]] == pytest.approx(0.0, abs=0.3)
    only = probed("only")
    assert only[2] == pytest.approx(0.0, abs=0.1)
    assert np.all(only[[0, 1, 3, 4]] < -20.0)


def test_the_probe_acts_on_its_own_track_only():
    hz = np.array([1_000.0])
    open_guard = GuardReference(loudness_lufs=40.0, true_peak_db=60.0)
    probe = Probe(track_id="a", hz=1_000)
    alone = Mix(tracks=(strip("a"), strip("c")), probe=probe, guard=open_guard, alone_track_id="c")
    assert response_db(alone, hz) == pytest.approx(0.0, abs=1e-6)


def test_hearing_a_slice_of_a_move():
    bell_entry = Mix(tracks=(strip("a", Bell(hz=1_000, gain_db=-9, q=4)),)).tracks[0].ledger[0]
    sliced = Mix.model_validate(
        {"tracks": [strip("a", bell_entry.move).model_dump()], "slice": {"track_id": "a", "entry_id": bell_entry.id}}
    )
    at = response_db(sliced, np.array([100.0, 1_000.0, 10_000.0]))
    assert at[1] > at[0] + 30.0
    assert at[1] > at[2] + 30.0


def test_a_ledger_or_a_move_that_is_off_changes_nothing(sources):
    x = sources("a").read(0, 6_400)
    for fields in ({"ledger_on": False}, {}):
        moves = BELLS if fields else [move.model_copy(update={"on": False}) for move in BELLS]
        out = Player(Mix(tracks=(strip("a", *moves, **fields),)), sources, start_frame=0, sample_rate_hz=RATE).render(
            6_400
        )
        assert np.array_equal(out, x)


def test_tracks_start_where_they_are_put_and_end_where_they_end(sources):
    mix = Mix(tracks=(strip("c", start_frame=1_000),))
    out = Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(5 * RATE)
    assert not np.any(out[:, :1_000])
    assert np.array_equal(out[:, 1_000 : 1_000 + 4 * RATE], sources("c").read(0, 4 * RATE))
    assert not np.any(out[:, 1_000 + 4 * RATE :])


def test_a_seek_is_a_new_start_on_the_grid(sources, mix):
    # The rule of docs/method.md: the grid step at or before the place, after one second of unheard pre-roll.
    sought = Player(mix, sources, start_frame=100_001, sample_rate_hz=RATE)
    assert sought.position == 99_968
    assert np.array_equal(
        sought.render(9_600), Player(mix, sources, start_frame=99_968, sample_rate_hz=RATE).render(9_600)
    )
    straight = Player(mix, sources, start_frame=0, sample_rate_hz=RATE)
    straight.render(99_968)
    # One second of pre-roll leaves nothing of the start that could be heard: these filters have died down by 120 dB.
    anew = Player(mix, sources, start_frame=99_968, sample_rate_hz=RATE).render(9_600)
    assert np.max(np.abs(straight.render(9_600) - anew)) < 1e-6


def test_a_loop_of_nonsense_is_no_loop():
    for start, end in ((None, 5_000), (9_000, 9_001), (9_000, 100)):
        assert Mix(loop_start_frame=start, loop_end_frame=end).loop() is None
    assert Mix(loop_start_frame=65, loop_end_frame=9_999).loop() == (64, 10_048)


def test_a_gain_that_moves_makes_no_zipper():
    tone = ArraySource(0.5 * np.sin(2 * np.pi * 100 * np.arange(3 * RATE) / RATE)[None, :])
    quiet = Mix(tracks=(strip("t"),))
    player = Player(quiet, lambda _: tone, start_frame=0, sample_rate_hz=RATE)
    parts = [player.render(RATE // 2)]
    for gain in (-6.0, -12.0, 0.0):
        player.apply(Mix(tracks=(strip("t", gain_db=gain),)))
        parts.append(player.render(RATE // 2))
    assert beyond(2 * np.concatenate(parts, axis=1)[0], 100.0, 600.0, 8_192) < -80.0


def test_the_pitch_pipe_is_a_soft_tone_of_its_pitch_however_it_is_asked_for():
    quiet = ArraySource(np.zeros((1, RATE * 3)))
    mix = Mix(tracks=(Track(id="t", audio_id="t"),), pipe_hz=440.0)

    def played(sizes: list[int], changes: dict[int, float | None]) -> np.ndarray:
        player = Player(mix, lambda _: quiet, start_frame=0, sample_rate_hz=RATE)
        parts = []
        for size in sizes:
            if (hz := changes.get(player.frame, 0.0)) != 0.0:
                player.apply(mix.model_copy(update={"pipe_hz": hz}))
            parts.append(player.render_steps(size))
        return np.concatenate(parts, axis=1)

    steady = played([RATE // 64 * 64], {})
    spectrum = np.abs(np.fft.rfft(steady[0] * np.hanning(steady.shape[1])))
    assert np.argmax(spectrum) * RATE / steady.shape[1] == pytest.approx(440.0, abs=1.0)
    assert 20 * np.log10(np.sqrt(2.0) * np.std(steady[0])) == pytest.approx(-32.0, abs=0.1)
    changes = {9_600: 466.2, 28_800: None, 38_400: 220.0}
    whole = played([9_600, 19_200, 9_600, 9_600], changes)
    pieces = played([64] * 750, changes)
    assert np.array_equal(whole[:, : pieces.shape[1]], pieces[:, : whole.shape[1]])
    assert np.max(np.abs(np.diff(whole[0]))) < 2 * np.pi * 500 / RATE * 10 ** (
        -32 / 20
    )  # it slides and fades: no click
    assert np.all(whole[:, 31_000:38_000] == 0.0)
