"""Where sound goes: sends, groups in groups, circles refused, who is heard, and how far play reaches back."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from mivlo.core.engine.audible import audible
from mivlo.core.engine.keys import Keys
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_mix, render_track, replay
from mivlo.core.engine.source import ArraySource
from mivlo.core.engine.strip import MOST_PREROLL_S, memory_of
from mivlo.core.errors import ConflictError, NotFoundError, ParameterError
from mivlo.core.filters.biquad import Biquad, decay_s
from mivlo.core.model import Group, LedgerEntry, Send, Session, Track, groups_in_order
from mivlo.core.model.intents.strips import RemoveGroup, SetGroup, SetSend
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.plane import Plane
from mivlo.core.processors.chain import ChainSpec, KeyedSection

RATE = 48_000
NOISE = {
    name: ArraySource(0.1 * np.random.default_rng(seed).standard_normal((channels, 3 * RATE)))
    for seed, (name, channels) in enumerate((("a", 2), ("b", 1), ("c", 2)))
}


def track(name: str, *moves, **fields) -> Track:
    ledger = tuple(LedgerEntry(id=f"{name}{index}", move=move) for index, move in enumerate(moves))
    return Track(id=name, name=name, audio_id=name, ledger=ledger, **fields)


def group(name: str, *moves, **fields) -> Group:
    ledger = tuple(LedgerEntry(id=f"{name}{index}", move=move) for index, move in enumerate(moves))
    return Group(id=name, name=name, ledger=ledger, **fields)


def rendered(mix: Mix, *, start: int = 0, n_frames: int = 48_000) -> np.ndarray:
    blocks = render_mix(mix, NOISE.__getitem__, start=start, end=start + n_frames, sample_rate_hz=RATE)
    return np.concatenate(list(blocks), axis=1)


def test_a_send_arrives_beside_the_direct_path_to_the_sample_whatever_looks_ahead():
    """By a group whose move looks ahead 40 ms and does nothing, the same sound comes twice."""
    idle = DynamicBell(hz=2_000, threshold_db=6, lookahead_ms=40)  # its level is never reached
    send = (Send(to_id="room"),)
    mix = Mix(tracks=(track("a", sends=send, pan=-0.3, gain_db=-2),), groups=(group("room", idle),))
    direct = rendered(Mix(tracks=(track("a", pan=-0.3, gain_db=-2),)))
    assert np.allclose(rendered(mix), 2.0 * direct, rtol=0.0, atol=1e-12)
    lower = mix.model_copy(update={"tracks": (track("a", sends=(Send(to_id="room", level_db=-6.0),), gain_db=-2),)})
    expected = (1.0 + 10 ** (-6.0 / 20.0)) * rendered(Mix(tracks=(track("a", gain_db=-2),)))
    assert np.allclose(rendered(lower), expected, rtol=0.0, atol=1e-12)


def test_groups_in_groups_treat_what_is_in_them_one_after_the_other_and_look_ahead_together():
    outer, inner = Bell(hz=900, gain_db=-9, q=2), Bell(hz=3_000, gain_db=6, q=1)
    idle = DynamicBell(hz=2_000, threshold_db=6, lookahead_ms=13)
    mix = Mix(
        tracks=(track("a", group_id="in"), track("b", idle, group_id="out"), track("c")),
        groups=(group("out", outer, idle, gain_db=-3), group("in", inner, idle, group_id="out", gain_db=2)),
        master=group("mix", idle),
    )

    def alone(name: str, *moves: Bell, gain_db: float = 0.0) -> np.ndarray:
        return rendered(Mix(tracks=(track(name, *moves, gain_db=gain_db),)))

    whole = alone("a", inner, outer, gain_db=-1) + alone("b", outer, gain_db=-3) + alone("c")
    assert np.allclose(rendered(mix), whole, rtol=0.0, atol=1e-9)


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_no_session_lets_sound_go_round_in_a_circle_and_the_path_is_told(data):
    """Whatever is set, a session is refused exactly where a walk along the ways comes back to where it began."""
    names = [f"g{index}" for index in range(data.draw(st.integers(1, 5)))]
    groups = tuple(
        group(
            name,
            group_id=data.draw(st.sampled_from([None, *names])),
            sends=tuple(Send(to_id=to) for to in data.draw(st.sets(st.sampled_from(names), max_size=2))),
        )
        for name in names
    )
    leads = {one.id: {one.group_id, *(send.to_id for send in one.sends)} - {None} for one in groups}
    reached = {name: set(leads[name]) for name in names}
    for _ in names:
        reached = {name: found.union(*(leads[one] for one in found)) for name, found in reached.items()}
    if any(name in found for name, found in reached.items()):
        with pytest.raises(ParameterError, match="circle") as refused:
            groups_in_order(groups)
        path = str(refused.value).split("“")[1:]
        told = [name.split("”")[0] for name in path]
        assert told[0] == told[-1]
        assert all(then in leads[now] for now, then in itertools.pairwise(told))
        with pytest.raises(ValidationError, match="circle"):
            Mix(groups=groups)
    else:
        order = [one.id for one in groups_in_order(groups)]
        assert sorted(order) == sorted(names)
        assert all(order.index(one) < order.index(to) for one in names for to in leads[one])


def test_sends_are_set_one_at_a_time_and_go_with_their_group():
    session = Session(
        id="s", sample_rate_hz=RATE, tracks=(track("a", group_id="g"),),
        groups=(group("g", group_id="h"), group("h"), group("room")),
    )  # fmt: skip
    sent = SetSend(strip_id="a", to_id="room", level_db=-6, seen_db=None).apply(session)
    sent = SetSend(strip_id="g", to_id="room", level_db=-3, seen_db=None).apply(sent)
    assert sent.track("a").sends == (Send(to_id="room", level_db=-6.0),)
    with pytest.raises(ConflictError, match=r"-6.* now, and -1"):
        SetSend(strip_id="a", to_id="room", level_db=-1, seen_db=None).apply(sent)
    with pytest.raises(ParameterError, match=r"“room” → “g” → “room”|“g” → “room” → “g”"):
        SetSend(strip_id="room", to_id="g", level_db=0, seen_db=None).apply(sent)
    with pytest.raises(ParameterError, match=r"“h” → “g” → “h”|“g” → “h” → “g”"):
        SetGroup(group_id="h", fields={"group_id": "g"}, seen={"group_id": None}).apply(session)
    for strip_id, to_id, error in (("a", "mix", ParameterError), ("g", "g", ParameterError), ("a", "x", NotFoundError),
                                   ("mix", "g", ParameterError)):  # fmt: skip
        with pytest.raises(error):
            SetSend(strip_id=strip_id, to_id=to_id, level_db=0, seen_db=None).apply(session)
    gone = RemoveGroup(group_id="g").apply(RemoveGroup(group_id="room").apply(sent))
    assert (gone.track("a").group_id, gone.track("a").sends) == ("h", ())  # where the group went
    assert SetSend(strip_id="a", to_id="room", level_db=None, seen_db=-6).apply(sent).track("a").sends == ()


@pytest.mark.parametrize(
    ("changes", "alone", "heard"),
    [
        ({}, None, "a>g a>room b>g c>mix c>room g>mix h>mix room>h"),
        ({"a": "solo"}, None, "a>g a>room g>mix h>mix room>h"),  # with the room that it is sent to
        ({"room": "solo"}, None, "a>room c>room h>mix room>h"),  # what is sent there, and nowhere else
        ({"g": "solo"}, None, "a>g a>room b>g g>mix h>mix room>h"),
        ({"h": "solo"}, None, "a>room c>room h>mix room>h"),  # all inside it
        ({"a": "mute"}, None, "b>g c>mix c>room g>mix h>mix room>h"),
        ({"g": "mute"}, None, "c>mix c>room h>mix room>h"),
        ({"room": "mute"}, None, "a>g b>g c>mix g>mix h>mix"),
        ({"h": "mute"}, None, "a>g b>g c>mix g>mix"),
        ({}, "a", "a>g g>mix"),  # alone: without the room
        ({"a": "mute"}, "a", "a>g g>mix"),
        ({}, "room", "a>room c>room h>mix room>h"),
        ({}, "g", "a>g b>g g>mix"),
        ({"b": "solo", "c": "solo"}, "g", "b>g g>mix"),
        ({}, "mix", "a>g a>room b>g c>mix c>room g>mix h>mix room>h"),
    ],
)
def test_who_is_heard_follows_the_ways_that_sound_takes(changes, alone, heard):
    def flags(name: str) -> dict[str, bool]:
        return {changes[name]: True} if name in changes else {}

    to_room = (Send(to_id="room"),)
    mix = Mix(
        tracks=(track("a", group_id="g", sends=to_room, **flags("a")), track("b", group_id="g", **flags("b")),
                track("c", sends=to_room, **flags("c"))),
        groups=(group("g", **flags("g")), group("h", **flags("h")), group("room", group_id="h", **flags("room"))),
        alone_track_id=alone,
    )  # fmt: skip
    told = audible(mix)
    assert " ".join(sorted(f"{one.source_id}>{one.target_id}" for one in told.open_routes)) == heard
    # What is rendered is the sum over the open ways: all strips have no moves, and sends of 0 dB.
    opened = {(one.source_id, one.target_id) for one in told.open_routes}

    def arriving(name: str) -> np.ndarray:
        own = NOISE[name].samples if name in NOISE else 0.0
        return own + sum((arriving(source) for source, target in opened if target == name), np.zeros((2, 1)))

    assert np.allclose(rendered(mix, n_frames=9_600), arriving("mix")[:, :9_600], rtol=0.0, atol=1e-12)


def test_a_groups_key_is_the_raw_sum_of_all_tracks_inside_it_and_a_send_is_no_member():
    mix = Mix(
        tracks=(track("a", group_id="in", gain_db=-6), track("b", Bell(hz=500, gain_db=9, q=1), group_id="out"),
                track("c", sends=(Send(to_id="out"),))),
        groups=(group("out"), group("in", group_id="out")),
    )  # fmt: skip
    keys = Keys(mix, NOISE.__getitem__, lambda source, offset, frame, n: source.read(frame - offset, n), frame=0)
    a, b = NOISE["a"].read(0, 640), NOISE["b"].read(0, 640)
    assert np.array_equal(keys.read("out", False, 0, 640), a + b)
    assert np.allclose(keys.read("out", True, 0, 640), 10 ** (-6 / 20) * a + b)
    assert np.array_equal(keys.read("in", False, 0, 640), a)


def test_play_reaches_back_as_far_as_the_longest_memory_on_the_way_and_no_further_than_four_seconds():
    """A second-order section forgets by r^n: worked out by hand for r = 0.9 (80 dB in 87.4 frames)."""
    section = Biquad(1.0, 0.0, 0.0, -2.0 * 0.9 * np.cos(1.0), 0.81)
    assert decay_s(section, fall_db=80.0, sample_rate_hz=1.0) == pytest.approx(np.log(1e4) / -np.log(0.9))
    spec = ChainSpec("c", (KeyedSection("k", section), KeyedSection("off", Biquad(1, 0, 0, -1.99, 0.9901), on=False)))
    assert memory_of([spec], sample_rate_hz=RATE) == pytest.approx(87.4 / RATE, rel=0.01)
    narrow = Bell(hz=20, gain_db=6, q=100).sections(RATE)[0]
    assert memory_of([ChainSpec("n", (KeyedSection("k", narrow),))], sample_rate_hz=RATE) == MOST_PREROLL_S

    reads: dict[str, int] = {}

    class Counted(ArraySource):
        def read(self, start, n_frames):
            reads[self.name] = min(reads.get(self.name, start), start)
            return ArraySource.read(self, start, n_frames)

    def first_read(mix: Mix) -> dict[str, int]:
        reads.clear()

        def opened(name: str) -> Counted:
            source = Counted(np.zeros((1, 12 * RATE)))
            object.__setattr__(source, "name", name)
            return source

        Player(mix, opened, start_frame=10 * RATE, sample_rate_hz=RATE, live=False).render(640)
        return {name: 10 * RATE - first for name, first in reads.items()}

    wide, plane = Bell(hz=1_000, gain_db=6, q=1), Plane()
    back = first_read(Mix(tracks=(track("a"), track("b", wide), track("c", plane, group_id="g")), groups=(group("g"),)))
    assert back["a"] == 0
    assert 0 < back["b"] < 16_384 < 4 * RATE <= back["c"] < 4.2 * RATE
    back = first_read(Mix(tracks=(track("a", group_id="g"), track("b", wide)), groups=(group("g", plane),)))
    assert back["b"] < 16_384 < 4 * RATE <= back["a"]
    assert first_read(Mix(tracks=(track("a"),), master=group("mix", plane)))["a"] >= 4 * RATE


def test_play_from_the_middle_differs_from_play_from_the_start_by_what_is_forgotten():
    """As far below the sound as a pre-roll promises (80 dB), for moves that remember less than four seconds."""
    moves = (Bell(hz=120, gain_db=12, q=12), DynamicBell(hz=900, threshold_db=-45, depth_db=-12, release_ms=150))
    mix = Mix(tracks=(track("a", *moves, group_id="g"),), groups=(group("g", *moves),))
    whole, late = rendered(mix, n_frames=120_000), rendered(mix, start=96_000, n_frames=24_000)
    error_db = 10 * np.log10(np.mean((whole[:, 96_000:] - late) ** 2) / np.mean(late**2))
    assert error_db < -80.0


def test_alone_and_in_the_mix_a_track_is_the_same_to_the_last_bit():
    plane = Plane(amount=60)
    mix = Mix(
        tracks=(track("a", Bell(hz=700, gain_db=-6, q=3), group_id="g"), track("b", plane)), groups=(group("g", plane),)
    )
    alone = render_track(mix, "a", NOISE.__getitem__, start=70_000, end=80_000, sample_rate_hz=RATE)
    player = Player(mix, NOISE.__getitem__, start_frame=70_000, sample_rate_hz=RATE)
    first = 70_000 // 64 * 64
    assert np.array_equal(
        np.concatenate(list(alone), axis=1), player.strip("a").read(first, 10_100)[:, 70_000 - first :][:, :10_000]
    )


def test_a_track_that_goes_elsewhere_is_crossfaded_so_that_nothing_of_it_is_missing_on_the_way():
    """Out of a group that does nothing into the mix: the same sum all along, where it breaks off nowhere."""
    plain = Mix(tracks=(track("a", group_id="g"), track("c")), groups=(group("g"),))
    moved = plain.model_copy(update={"tracks": (track("a"), track("c"))})
    gone = plain.model_copy(update={"tracks": (track("c"),)})
    a, c = (NOISE[name].read(0, 24_000) for name in "ac")
    assert np.allclose(replayed(plain, moved), a + c, rtol=0.0, atol=1e-12)
    left = np.max(np.abs(replayed(plain, gone) - c)[:, 9_600:], axis=0)
    assert np.all(left[512:] == 0.0)
    assert np.max(left[:64]) > 0.5 * np.max(np.abs(a[:, 9_600:9_664]))  # not cut off
    assert np.max(left[448:512]) < 0.05 * np.max(np.abs(a))


def replayed(before: Mix, after: Mix) -> np.ndarray:
    return replay(before, [(9_600, after)], NOISE.__getitem__, start_frame=0, n_frames=24_000, sample_rate_hz=RATE)
