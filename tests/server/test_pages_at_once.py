"""Several pages at once: each hears its own way of listening to the bit, and all hear what anybody saves."""

import itertools
import json
import threading
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from websockets.sync.client import connect

from .helpers import bell, client_of, edit, new_id, session_with_track, set_track
from .test_files import replayed

FRAMES = 36_000


def test_three_pages_play_three_mixes_while_others_break_off(mivlo, demo):
    names = ("Fiddle", "Cello", "Upright bass")
    ways = [{"strip_id": next(track["id"] for track in demo["tracks"] if track["name"] == name)} for name in names]
    over = threading.Event()

    def break_off() -> None:
        """Start to play and leave without a word, again and again, in the middle of whatever is being sent."""
        turn = 0
        while not over.is_set():
            with connect(mivlo.monitor_url, origin=mivlo.url, max_size=None) as socket:
                play = {"do": "play", "epoch": 1, "at_frame": 48_000 * (turn % 7), "listening": ways[turn % 3]}
                socket.send(json.dumps(play | {"session_id": demo["id"], "revision": demo["revision"]}))
                for _ in range(turn % 4):
                    socket.recv(timeout=10)
                if turn % 2:
                    socket.socket.close()
            turn += 1

    def listen(way: dict):
        return client_of(mivlo).play(demo, way, at_frame=240_000, n_frames=FRAMES)

    rude = threading.Thread(target=break_off)
    rude.start()
    try:
        with ThreadPoolExecutor(3) as pages:
            heard = list(pages.map(listen, ways))
    finally:
        over.set()
        rude.join(20)
    for played in heard:
        assert np.array_equal(played.sound, replayed(mivlo, played, at_frame=240_000))
    assert any(not np.array_equal(heard[0].sound[:, :4_096], other.sound[:, :4_096]) for other in heard[1:])


def test_what_one_page_saves_another_hears_on_the_next_step_and_nothing_else_of_it(mivlo, http):
    state = session_with_track(http, seconds=60.0)
    on = {"strip_id": state["tracks"][0]["id"], "matched": False}
    saved = threading.Timer(0.4, lambda: edit(http, state, set_track(state, ledger=[bell(q=0.7)], gain_db=-6.0)))
    saved.start()
    played = client_of(mivlo).play(state, on, n_frames=40 * 48_000)  # as fast as it is rendered: over a second
    saved.join()
    (_, first), *changes = played.mixes()
    assert first.tracks[0].ledger == ()
    assert changes[-1][1].tracks[0].ledger[0].move.hz == 431.0
    assert changes[-1][1].tracks[0].gain_db == -6.0
    assert all(frame % 64 == 0 for frame, _ in changes)
    assert np.array_equal(played.sound, replayed(mivlo, played, at_frame=0))


def test_what_is_drafted_is_heard_as_if_it_were_taken_and_changes_nothing(mivlo, http):
    state = session_with_track(http, seconds=60.0)
    strip_id = state["tracks"][0]["id"]
    add = {"do": "add-move", "strip_id": strip_id, "entry": bell(gain_db=-12.0, q=0.7)}
    drafts = [new_id() for _ in range(25)]
    for draft_id in drafts:  # only the last few are remembered
        draft = {"id": draft_id, "intents": [add]}
        assert http.post(f"/api/sessions/{state['id']}/drafts", json=draft).status_code == 204
    on = {"strip_id": strip_id, "matched": False}
    way = [(state["revision"], on), (state["revision"], {**on, "draft_id": drafts[-1]}), (state["revision"], on)]
    # As fast as it is rendered: over a second, in which the draft is read.
    played = client_of(mivlo).play_changing(state, way, n_frames=40 * 48_000)
    lengths = [len(mix.tracks[0].ledger) for _, mix in played.mixes()]
    assert [length for length, _ in itertools.groupby(lengths)] == [0, 1, 0]
    assert np.array_equal(played.sound, replayed(mivlo, played, at_frame=0))
    begun = client_of(mivlo).play(state, {**on, "draft_id": drafts[-1]}, n_frames=9_600)
    assert len(begun.mixes()[0][1].tracks[0].ledger) == 1
    assert http.get(f"/api/sessions/{state['id']}").json() == state
    gone = client_of(mivlo).play(state, {**on, "draft_id": drafts[0]}, n_frames=9_600)
    assert "is not there" in gone.told("problem")[0]["message"]
    unfit = {"id": new_id(), "intents": [{**add, "strip_id": "nobody"}]}
    assert http.post(f"/api/sessions/{state['id']}/drafts", json=unfit).status_code == 404
