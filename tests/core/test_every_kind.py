"""Every kind of move at once, on tracks, a group and the mix: the same samples however they come about, and no bad
state."""

import threading
import tracemalloc
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from mivlo.core.engine.mix import Mix, Probe
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_mix, render_moves, replay
from mivlo.core.engine.source import ArraySource, open_source
from mivlo.core.model import Group, LedgerEntry, Track
from mivlo.core.moves import MOVE_KINDS
from mivlo.core.moves.air import Air
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.drive import Drive
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.dynamic_flat_bell import DynamicFlatBell
from mivlo.core.moves.dynamic_high_shelf import DynamicHighShelf
from mivlo.core.moves.dynamic_low_cut import DynamicLowCut
from mivlo.core.moves.dynamic_low_shelf import DynamicLowShelf
from mivlo.core.moves.figures import describe_kinds
from mivlo.core.moves.flat_bell import FlatBell
from mivlo.core.moves.high_cut import HighCut
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.moves.notch import Notch
from mivlo.core.moves.note_family import NoteFamily
from mivlo.core.moves.plane import Plane
from mivlo.core.moves.room import Room
from mivlo.core.moves.trim import Trim
from mivlo.core.moves.warmth import Warmth

from .test_engine import BELLS, RATE, in_random_blocks, noise, strip


@pytest.fixture
def sources():
    made = {"a": ArraySource(noise(4.0)), "b": ArraySource(noise(3.0, 1, seed=4)), "c": ArraySource(noise(4.0, seed=5))}
    return made.__getitem__


EVERY_KIND = {
    "bell": BELLS[0],
    "note-family": NoteFamily(hz=110, count=4),
    "notch": Notch(hz=2_000),
    "dynamic-bell": DynamicBell(hz=900, threshold_db=-45, lookahead_ms=10, depth_db=-9, listens_to="b"),
    "flat-bell": FlatBell(hz=3_500, q=2, gain_db=-5),
    "dynamic-flat-bell": DynamicFlatBell(hz=500, threshold_db=-45, lookahead_ms=5, depth_db=-12, channel="mid"),
    "dynamic-low-shelf": DynamicLowShelf(hz=200, threshold_db=-50),
    "low-shelf": LowShelf(hz=150, gain_db=3, channel="mid"),
    "dynamic-high-shelf": DynamicHighShelf(hz=5_000, threshold_db=-50, lookahead_ms=5, channel="side"),
    "dynamic-low-cut": DynamicLowCut(hz=150, threshold_db=-50, trigger="sudden", lookahead_ms=30),
    "low-cut": LowCut(hz=60),
    "high-shelf": HighShelf(hz=8_000, gain_db=-3),
    "high-cut": HighCut(hz=15_000),
    "plane": Plane(),
    "compressor": Compressor(threshold_db=-40, lookahead_ms=5, placing="beside", beside_high_hz=4_000, listens_to="b"),
    "room": Room(decay_s=0.6, wet_db=-9),
    "trim": Trim(gain_db=-2),
    "warmth": Warmth(),
    "air": Air(amount_db=-10),
    "drive": Drive(drive_db=4),
}


@pytest.fixture
def whole_mix():
    """Return tracks, a group and the mix with every kind of move, keys that cross, and one ledger in linear phase."""
    group = Group(id="g", ledger=strip("g", BELLS[1], DynamicBell(hz=2_000, threshold_db=-45, listens_to="c")).ledger)
    tracks = (
        strip("a", *EVERY_KIND.values(), group_id="g"),
        strip("b", BELLS[1], start_frame=1_234, pan=-0.4, gain_db=-3, group_id="g"),
        strip("c", BELLS[2], DynamicBell(hz=700, threshold_db=-60, listens_to="g"), phase="linear"),
    )  # fmt: skip
    master = Group(id="mix", ledger=strip("m", BELLS[0], Plane(low_hz=2_000)).ledger)
    return Mix(tracks=tracks, groups=(group,), master=master, loop_start_frame=12_000, loop_end_frame=60_000)


def changed(mix: Mix, track_id: str, **fields) -> Mix:
    return mix.model_copy(
        update={"tracks": tuple(t.model_copy(update=fields) if t.id == track_id else t for t in mix.tracks)}
    )


def test_every_kind_of_move_is_in_the_mix_of_these_tests():
    assert set(EVERY_KIND) == set(MOVE_KINDS)


def test_with_every_kind_of_move_blocks_and_work_ahead_change_nothing(sources, whole_mix):
    whole = Player(whole_mix, sources, start_frame=9_600, sample_rate_hz=RATE).render(70_000)
    player = Player(whole_mix, sources, start_frame=9_600, sample_rate_hz=RATE)
    assert np.array_equal(in_random_blocks(player, 70_000, 1), whole)
    ahead = Player(whole_mix, sources, start_frame=9_600, sample_rate_hz=RATE)
    parts = []
    for _ in range(70):
        ahead.work_ahead(RATE)
        parts.append(ahead.render(1_000))
    assert np.array_equal(np.concatenate(parts, axis=1), whole)
    straight = whole_mix.model_copy(update={"loop_start_frame": None, "loop_end_frame": None})
    live = Player(straight, sources, start_frame=9_600, sample_rate_hz=RATE).render(60_000)
    rendered = np.concatenate(list(render_mix(straight, sources, start=9_600, end=69_600, sample_rate_hz=RATE)), axis=1)
    assert np.array_equal(rendered, live)


def test_a_thread_that_works_ahead_changes_nothing_and_is_not_waited_for(sources, whole_mix):
    whole = Player(whole_mix, sources, start_frame=9_600, sample_rate_hz=RATE).render(70_000)
    player = Player(whole_mix, sources, start_frame=9_600, sample_rate_hz=RATE)
    done = threading.Event()

    def ahead() -> None:
        while not done.is_set():
            player.work_ahead(RATE)

    thread = threading.Thread(target=ahead)
    thread.start()
    parts = [player.render(700) for _ in range(100)]
    done.set()
    thread.join()
    assert np.array_equal(np.concatenate(parts, axis=1), whole)
    # While the stages run (here: while somebody holds their lock) what is ready can be read.
    ready = player.strip("a")
    frame, until = player.frame + 9_600, ready.ready_until
    assert until > frame + 1_000
    holding, release = threading.Event(), threading.Event()

    def hold() -> None:
        with ready.lock:
            holding.set()
            release.wait(10)

    thread = threading.Thread(target=hold)
    thread.start()
    holding.wait(10)
    with ThreadPoolExecutor(1) as reader:
        read = reader.submit(ready.read, frame, 500).result(timeout=5)
    ready.forget_before(frame)
    release.set()
    thread.join()
    assert np.isfinite(read).all()


@pytest.mark.parametrize("seed", [0, 1])
def test_with_every_kind_of_move_changes_are_replayed_bit_for_bit(sources, whole_mix, seed):
    """However far each track was rendered ahead when a change came."""
    random = np.random.default_rng(seed)
    ledger = whole_mix.tracks[0].ledger
    moved = changed(
        whole_mix, "a", ledger=(ledger[0].model_copy(update={"move": Bell(hz=700, gain_db=-6, q=3)}), *ledger[1:])
    )
    steps = [
        moved,
        changed(moved, "b", mute=True),
        changed(moved, "a", ledger=ledger[:3]),
        changed(moved, "c", phase="minimum"),
        moved.model_copy(update={"loop_end_frame": 40_000}),
        moved.model_copy(update={"offcuts_track_id": "a"}),
        moved.model_copy(update={"probe": Probe(track_id="g", hz=900)}),
        whole_mix,
    ]
    player = Player(whole_mix, sources, start_frame=9_600, sample_rate_hz=RATE)
    parts, log = [], []
    for index, step in enumerate(steps):
        player.work_ahead(20_000)
        for track in whole_mix.tracks:
            if random.random() < 0.6:
                ahead = player.strip(track.id)
                ahead.extend(ahead.ready_until + int(random.integers(1, 20_000)))
        log.append((player.frame, step))
        player.apply(step)
        parts.append(player.render(5_001 + 777 * index))
    played = np.concatenate(parts, axis=1)
    again = replay(whole_mix, log, sources, start_frame=9_600, n_frames=played.shape[1], sample_rate_hz=RATE)
    assert np.array_equal(again, played)
    assert np.isfinite(played).all()


def test_a_change_before_a_move_that_looks_ahead_acts_at_once(sources):
    """What is heard after a change is what would be heard had it been known: no look-ahead delays it."""
    tone = ArraySource(0.3 * np.sin(2 * np.pi * 400 * np.arange(3 * RATE) / RATE)[None, :])
    still = DynamicBell(hz=5_000, threshold_db=6, lookahead_ms=50)
    before = Mix(tracks=(strip("t", Bell(hz=400, gain_db=0, q=1), still),))
    after = Mix(tracks=(strip("t", Bell(hz=400, gain_db=-12, q=1), still),))
    player = Player(before, lambda _: tone, start_frame=0, sample_rate_hz=RATE)
    player.render(RATE)
    player.apply(after)
    out = player.render(RATE // 2)[0]
    plain = Player(
        Mix(tracks=(strip("t", before.tracks[0].ledger[0].move),)), lambda _: tone, start_frame=0, sample_rate_hz=RATE
    )
    plain.render(RATE)
    plain.apply(Mix(tracks=(strip("t", after.tracks[0].ledger[0].move),)))
    assert np.max(np.abs(out - plain.render(RATE // 2)[0])) < 1e-12


def test_static_moves_are_linear_and_time_invariant(sources):
    moves = [
        EVERY_KIND[kind] for kind in ("bell", "flat-bell", "note-family", "notch", "low-shelf", "low-cut", "high-cut")
    ]
    a, b = noise(1.0, seed=8), noise(1.0, seed=9)

    def run(x: np.ndarray) -> np.ndarray:
        return np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE)), axis=1)

    assert np.max(np.abs(run(2.0 * a - b) - (2.0 * run(a) - run(b)))) < 1e-10
    late = np.pad(a, ((0, 0), (777, 0)))
    assert np.max(np.abs(run(late)[:, 777:] - run(a))) < 1e-10


def test_groups_have_gain_solo_and_mute(sources):
    def heard(*groups: Group, **fields) -> np.ndarray:
        mix = Mix(tracks=(strip("a", group_id="g"), strip("c")), groups=groups, **fields)
        return Player(mix, sources, start_frame=0, sample_rate_hz=RATE).render(6_400)

    a, c = sources("a").read(0, 6_400), sources("c").read(0, 6_400)
    assert np.max(np.abs(heard(Group(id="g", gain_db=-6.0)) - (a * 10 ** (-6 / 20) + c))) < 1e-12
    assert np.array_equal(heard(Group(id="g", mute=True)), c)
    assert np.array_equal(heard(Group(id="g", solo=True)), a)
    assert np.array_equal(heard(Group(id="g"), alone_track_id="g"), a)
    deep = LedgerEntry(id="x", move=Bell(hz=1_000, gain_db=-30, q=0.1))
    assert np.std(heard(Group(id="g"), master=Group(id="mix", ledger=(deep,)))) < 0.3 * np.std(a + c)


def test_a_long_session_holds_little_and_reads_from_disk(tmp_path):
    path = tmp_path / "long.npy"
    long = np.lib.format.open_memmap(path, mode="w+", dtype=np.float32, shape=(2, 60 * RATE))
    long[:] = 0.01
    del long
    source = open_source(path)
    mix = Mix(tracks=tuple(Track(id=str(n), audio_id="a", ledger=strip("l", *BELLS).ledger) for n in range(4)))
    tracemalloc.start()
    for block in render_mix(mix, lambda _: source, start=0, end=60 * RATE, sample_rate_hz=RATE):
        del block
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 40e6  # 60 s of four stereo tracks would be 184 MB


@pytest.mark.parametrize("seed", range(6))
def test_whatever_comes_in_no_state_goes_wrong(seed):
    """Random ledgers within their limits, random edits while playing, and the worst of signals."""
    random = np.random.default_rng(seed)
    square = np.sign(np.sin(2 * np.pi * 50 * np.arange(2 * RATE) / RATE))
    signals = {
        "silence": np.zeros((2, 2 * RATE)),
        "square": np.tile(square, (2, 1)),
        "denormal": np.full((1, 2 * RATE), 1e-310),
        "noise": random.standard_normal((2, 2 * RATE)),
        "click": np.eye(1, 2 * RATE, 5_000),
    }
    made = {name: ArraySource(x) for name, x in signals.items()}

    def random_move():
        kind = random.choice(list(MOVE_KINDS))
        values = {}
        for figure in next(one for one in describe_kinds() if one.kind == kind).figures:
            if figure.control == "choice":
                values[figure.name] = figure.choices[random.integers(len(figure.choices))]
            elif figure.control == "number" and figure.minimum is not None and not figure.choices:
                low, high = figure.minimum, figure.maximum
                value = (
                    low + (high - low) * random.random()
                    if figure.unit != "Hz"
                    else low * (high / low) ** random.random()
                )
                values[figure.name] = round(value) if figure.name == "count" else value
        if "listens_to" in MOVE_KINDS[kind].model_fields:
            values["listens_to"] = random.choice(list(made))
        if kind == "compressor":
            values["beside_high_hz"] = min(max(values["beside_high_hz"], 1.3 * values["beside_low_hz"]), 19_000.0)
            values["beside_low_hz"] = min(values["beside_low_hz"], 14_000.0)
            values["key_low_cut_hz"] = min(values["key_low_cut_hz"], 19_000.0)
        if kind == "room":
            values["low_cut_hz"] = min(values["low_cut_hz"], 19_000.0)
        if values.get("slope_db_per_octave") == 6:
            values.pop("q", None)
        if kind == "plane":
            values["high_hz"] = max(values["high_hz"], 1.3 * values["low_hz"])
            values = values if values["high_hz"] <= 20_000 else {}
        return MOVE_KINDS[kind].model_validate(values | ({"hz": min(values["hz"], 19_000.0)} if "hz" in values else {}))

    def random_mix() -> Mix:
        tracks = []
        for name in made:
            moves = [random_move() for _ in range(random.integers(0, 5))]
            phase = "linear" if random.random() < 0.15 else "minimum"
            tracks.append(Track(id=name, audio_id=name, ledger=strip(name, *moves).ledger, phase=phase))
        return Mix(tracks=tuple(tracks), master=Group(id="mix", ledger=strip("m", random_move()).ledger))

    player = Player(random_mix(), made.__getitem__, start_frame=0, sample_rate_hz=RATE)
    for _ in range(5):
        assert np.isfinite(player.render(4_800)).all()
        player.apply(random_mix())
    assert player.non_finite() == []


def test_what_is_no_number_in_a_file_is_silent_and_reported():
    poisoned = noise(2.0)
    poisoned[0, 30_000] = np.nan
    player = Player(
        Mix(tracks=(strip("a", *BELLS),)), lambda _: ArraySource(poisoned), start_frame=0, sample_rate_hz=RATE
    )
    out = player.render(2 * RATE)
    assert np.isfinite(out).all()
    assert [one.strip_id for one in player.non_finite()] == ["a"]
    assert player.non_finite() == []
    assert np.std(out[:, RATE:]) > 0.05  # it plays on


def test_a_stage_that_runs_over_is_reset_reported_and_not_played():
    """Each sample that comes is a number; what a bell makes of one is none."""
    huge = noise(2.0)
    huge[0, 30_000] = 1.7e308
    mix = Mix(tracks=(strip("a", Bell(hz=1_000.0, gain_db=24.0, q=0.5)),))
    player = Player(mix, lambda _: ArraySource(huge), start_frame=0, sample_rate_hz=RATE)
    out = player.render(2 * RATE)
    assert np.isfinite(out).all()
    assert [one.strip_id for one in player.non_finite()] == ["a"]
    assert np.std(out[:, RATE:]) > 0.05
