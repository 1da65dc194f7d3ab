"""A play of the monitor, message by message, without a socket: what it sends beside the core's own replay."""

import asyncio
import itertools
import json
import os
import threading
import time
from concurrent.futures import BrokenExecutor, Future, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from mivlo.core.audiofile import write_store
from mivlo.core.engine.listening import Listening
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import replay
from mivlo.core.engine.source import open_source
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.notch import Notch
from mivlo.core.moves.plane import Plane
from mivlo.server.monitor import measuring, page
from mivlo.server.monitor.changes import Changes
from mivlo.server.monitor.messages import Applied, Held, Late, Play
from mivlo.server.monitor.player import Change, LivePlay
from mivlo.server.monitor.reach import BEYOND_MS, REMEMBERED, Reach

from ..conftest import ROOT
from ..monitor_client import Played

RATE, SECONDS, TRACKS = 48_000, 6, 4


@pytest.fixture
def folder(tmp_path):
    for track in range(TRACKS):
        (tmp_path / f"{track:032x}").mkdir()
        noise = 0.1 * np.random.default_rng(track).standard_normal((2, SECONDS * RATE))
        write_store(tmp_path / f"{track:032x}" / "session.npy", [noise], n_channels=2, n_frames=SECONDS * RATE)
    return tmp_path


def play_of(mix: Mix, folder: Path, **kind) -> LivePlay:
    play = Play(epoch=1, at_frame=0, log=True, session_id="s", revision=0, listening=Listening())
    return LivePlay(play, Change(0, 0, mix), folder, sample_rate_hz=RATE, **kind)


def names_in(schema: dict, document: dict, seen: frozenset[str] = frozenset()) -> set[str]:
    """Return the names of all fields, and of all schemas, that can stand in a message."""
    found: set[str] = set()
    if "$ref" in schema:
        name = schema["$ref"].rpartition("/")[2]
        return set() if name in seen else {name} | names_in(document[name], document, seen | {name})
    for name, part in schema.get("properties", {}).items():
        found |= {name} | names_in(part, document, seen)
    for several in ("anyOf", "oneOf", "allOf", "prefixItems"):
        for part in schema.get(several, ()):
            found |= names_in(part, document, seen)
    return found | names_in(schema["items"], document, seen) if "items" in schema else found


def test_no_message_of_a_page_holds_what_the_server_decides():
    """Ledgers, faders, guards and match figures are the server's; a page has the move under its pointer, no more."""
    document = json.loads((ROOT / "docs/monitor.json").read_text())["components"]["schemas"]
    names = names_in(document["FromPage"], document)
    assert {"listening", "probe", "preview", "move", "Bell", "together", "moves_heard"} <= names
    forbidden = (
        "ledger entries mix Mix tracks groups master Track Group Strip LedgerEntry Session pan solo mute guard "
        "GuardReference match match_db LevelMatch loudness_lufs true_peak_db loop_start_frame audio_id sample_rate_hz"
    )
    assert names & set(forbidden.split()) == set()
    of_moves = {name for name, schema in document.items() if "times_s" in schema.get("properties", {})}
    holders = {name for name in names & set(document) if "gain_db" in document[name].get("properties", {})}
    assert "gain_db" in names  # of the move under the pointer, and of nothing else
    assert holders <= of_moves
    lists = [
        part
        for name in names & set(document)
        for part in document[name].get("properties", {}).values()
        if part.get("type") == "array"
    ]
    assert all(not names_in(part, document) & of_moves for part in lists)


@pytest.mark.parametrize("played", [10**18, -1])
def test_absurd_counts_of_what_was_played_render_no_more_than_a_queue(folder, played):
    play = play_of(mix_of(0).model_copy(update={"loop_start_frame": 0, "loop_end_frame": RATE}), folder)
    sent = list(play.start())
    sent += play.held(Held.model_construct(epoch=1, played_frames=played, underruns=0))
    assert sum(len(sound) for sound in sent if isinstance(sound, bytes)) < 8 * RATE


def mix_of(step: int) -> Mix:
    """Return a mix in which another track's bell stands elsewhere at every step."""

    def ledger(track: int) -> tuple[LedgerEntry, ...]:
        turned = -1.0 - (step - track) // TRACKS if step > track else -3.0
        moves = (Bell(hz=300, gain_db=turned), DynamicBell(hz=1_000, threshold_db=-50, lookahead_ms=5), Plane())
        return tuple(LedgerEntry(id=str(index), move=move) for index, move in enumerate(moves))

    tracks = [Track(id=f"t{track}", audio_id=f"{track:032x}", ledger=ledger(track)) for track in range(TRACKS)]
    return Mix(tracks=tuple(tracks), offcuts_track_id="t1" if step % 11 == 7 else None)


def held_by(page: Played) -> Held:
    counts = {"exchanges": page.exchanges, "spare_frames": page.spare_frames}
    return Held(epoch=1, played_frames=page.played_frames, underruns=0, **counts)


def test_a_change_is_made_as_far_ahead_as_the_last_ones_needed_and_no_further():
    reach = Reach()
    first_ms = reach.ms
    reach.begin(first_ms)
    reach.late(0, 30.0)
    assert reach.ms == pytest.approx(first_ms + 30.0 + BEYOND_MS)  # at once
    for spare_ms in [25.0] * (REMEMBERED - 1) + [40.0]:
        reach.begin(60.0)
        reach.in_time(1, spare_ms)
    assert reach.ms == pytest.approx(60.0 - 25.0 + BEYOND_MS)
    for left_ms in (50.0, 60.0):  # told of both at once: how the first one did is not known
        reach.begin(left_ms)
    reach.in_time(2, 10.0)
    assert reach.ms == pytest.approx(60.0 - 10.0 + BEYOND_MS)


@pytest.mark.parametrize("tick_s", [0.0, 0.01])
@pytest.mark.parametrize("is_slow", [False, True])
def test_a_heavy_session_is_rendered_ahead_with_a_longer_queue_and_sounds_the_same(folder, tick_s, is_slow):
    # A clock by which no rendering takes any time, or each a hundredth of a second: too much for a session like this.
    ticks = itertools.count()
    play = play_of(mix_of(0), folder, clock=lambda: tick_s * next(ticks))
    page = Played()

    def take(messages) -> None:
        late = None
        for message in messages:
            if isinstance(message, bytes):
                late = page.take(message) or late
            else:
                page.said.append(message.model_dump())
        if late is not None:
            take(play.late(Late.model_validate(late)))

    take(play.start())
    ahead = threading.Thread(target=play.keep_ahead, daemon=True)
    ahead.start()
    for step in range(1, 12 * TRACKS):
        sent = list(play.apply(Change(step, step, mix_of(step))))
        if is_slow and not step % 5:  # meanwhile much was played, and the monitor hears of that first
            page.played_frames = min(page.played_frames + 5_000, page.n_frames)
            sent += play.held(held_by(page))
        take(sent)
        page.played_frames = min(page.played_frames + 700, page.n_frames)
        take(play.held(held_by(page)))
    play.finish()
    ahead.join()

    (_, first), *changes = page.mixes()
    assert page.exchanges > 2 * TRACKS
    assert bool(page.refusals) == is_slow
    assert len(changes) > 9 * TRACKS
    # Offcuts wait until the page has said that all exchanges before them were in time: so they come, but for the last.
    offcut = {step for step in range(1, 12 * TRACKS) if step % 11 == 7}
    assert is_slow or sum(mix.offcuts_track_id is not None for _, mix in changes) >= len(offcut) - 1
    again = replay(
        first, changes, lambda audio_id: open_source(folder / audio_id / "session.npy"), start_frame=0,
        n_frames=page.n_frames, sample_rate_hz=RATE,
    )  # fmt: skip
    assert np.array_equal(page.sound, again.astype(np.float32))
    # What has been played is let go of: it reads as silence.
    assert tick_s or not any(play._player.strip(f"t{track}").read(0, 64).any() for track in range(TRACKS))
    queue_ms = [told["queue_ms"] for told in page.told("meter")]
    assert queue_ms[-1] > 70.0 if tick_s else queue_ms[-1] == 60.0


def test_a_change_that_takes_long_is_prepared_while_play_goes_on_and_only_the_newest_is_applied(folder):
    def mix(hz: float) -> Mix:
        ledger = (LedgerEntry(id="m", move=Notch(hz=hz, q=20 if hz < 5_000 else 1)),)
        return Mix(tracks=(Track(id="t", audio_id=f"{0:032x}", ledger=ledger, phase="linear"),))

    async def tried() -> list:
        play = play_of(mix(8_000), folder)
        sent = list(play.start())

        async def say(messages) -> None:
            sent.extend(messages)

        changes = Changes(say)
        played = 0
        for seq, hz in enumerate((8_100, 1_000, 1_010, 1_020, 1_030), 1):
            await changes.take(play, Change(seq, seq, mix(hz)))
            played += 1_024
            await say(play.held(Held(epoch=1, played_frames=played, underruns=0)))
            await asyncio.sleep(0.0)
        before = len(sent)
        while not any(isinstance(one, Applied) and one.seq == 5 for one in sent):
            await asyncio.sleep(0.01)
        assert len(sent) > before
        changes.forget()
        await changes.take(play, Change(6, 6, mix(1_000)))  # prepared before: but nobody can know
        changes.forget()  # play has ended
        await asyncio.sleep(0.3)
        return sent

    with ThreadPoolExecutor(1) as pool:  # in this thread the browser tests' own loop may be running
        sent = pool.submit(lambda: asyncio.run(tried())).result()
    applied = [one.seq for one in sent if isinstance(one, Applied)]
    assert applied == [0, 1, 2, 5]  # the first is short enough to be made at once
    sounds = [one for one in sent if isinstance(one, bytes)]
    assert len(sounds) > 4
    assert np.isfinite(np.frombuffer(sounds[-1][40:], "<f4")).all()


def test_when_the_process_that_measures_has_ended_a_page_does_without_and_starts_no_other_one(folder):
    play = play_of(mix_of(0), folder)
    play.spectra_due = lambda: ("t0", np.zeros((2, 8)), np.zeros((2, 8)))

    def spectra() -> None:  # in a thread that has no loop: here the browser tests' own one may be running
        with ThreadPoolExecutor(1) as pool:
            pool.submit(lambda: asyncio.run(page.Page(None, None, folder)._send_spectra(play))).result()

    with measuring.opened():
        measuring.prepare()
        own = measuring.submit(os.getpid).result()
        assert own != os.getpid()
        with pytest.raises(BrokenExecutor):
            measuring.submit(os._exit, 1).result()
        assert measuring.submit(os.getpid).result() != own
    measuring.prepare()
    spectra()
    with pytest.raises(measuring.EndedError):
        measuring.submit(os.getpid)


def test_sound_goes_on_while_the_process_that_measures_is_started(folder, monkeypatch):
    def slow(*_) -> Future:
        time.sleep(0.3)
        measured = Future()
        measured.set_result(([], []))
        return measured

    monkeypatch.setattr(page, "submit", slow)
    play = play_of(mix_of(0), folder)
    play.spectra_due = lambda: ("t0", np.zeros((2, 8)), np.zeros((2, 8)))
    own, sent = page.Page(None, None, folder), []

    async def send(messages) -> None:
        sent.extend(messages)

    async def turns() -> int:
        """Return how often other work had its turn meanwhile."""
        own.send = send
        measuring, n_turns = asyncio.create_task(own._send_spectra(play)), 0
        while not measuring.done():
            await asyncio.sleep(0.001)
            n_turns += 1
        await measuring
        return n_turns

    with ThreadPoolExecutor(1) as pool:  # in this thread the browser tests' own loop may be running
        assert pool.submit(lambda: asyncio.run(turns())).result() > 20
    assert [one.track_id for one in sent] == ["t0"]
