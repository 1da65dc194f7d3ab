"""Several pages at once: each hears its own mix to the bit, whatever the others do or however they leave."""

import json
import threading
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from websockets.sync.client import connect

from mivlo.core.engine.render import render_mix, replay
from mivlo.core.moves.bell import Bell

from .helpers import RATE, edit, new_session, set_track, upload, wav
from .test_files import mix_of, opener, play, start

FRAMES = 36_000


def test_three_pages_play_three_mixes_while_others_break_off(mivlo, demo):
    names = ("Fiddle", "Cello", "Upright bass")
    mixes = [
        mix_of(demo, alone_track_id=next(track["id"] for track in demo["tracks"] if track["name"] == name)) for name in names
    ]
    over = threading.Event()

    def break_off() -> None:
        """Start to play and leave without a word, again and again, in the middle of whatever is being sent."""
        turn = 0
        while not over.is_set():
            with connect(mivlo.monitor_url, origin=mivlo.url, max_size=None) as socket:
                socket.send(json.dumps(start(mixes[turn % 3], 48_000 * (turn % 7))))
                for _ in range(turn % 4):
                    socket.recv(timeout=10)
                if turn % 2:
                    socket.socket.close()
            turn += 1

    rude = threading.Thread(target=break_off)
    rude.start()
    try:
        with ThreadPoolExecutor(3) as pages:
            heard = list(pages.map(lambda mix: play(mivlo, [start(mix, 240_000)], FRAMES)[0], mixes))
    finally:
        over.set()
        rude.join(20)
    for mix, played in zip(mixes, heard, strict=True):
        rendered = render_mix(mix, opener(mivlo), start=240_000, end=240_000 + FRAMES, sample_rate_hz=RATE)
        assert np.array_equal(played, np.concatenate(list(rendered), axis=1).astype(np.float32))
    assert any(not np.array_equal(heard[0], other) for other in heard[1:])


def test_what_one_page_saves_does_not_touch_what_another_is_playing(mivlo, http):
    session = new_session(http, "Two pages")
    state = upload(http, session["id"], "pad.wav", wav(3.0, channels=2)).json()
    before = mix_of(state)
    ledger = [{"id": "b", "move": {"kind": "bell", "hz": 900.0, "gain_db": -9.0, "q": 1.0}}]
    saved = edit(http, state, set_track(state, ledger=ledger, gain_db=-6.0)).json()
    played, _ = play(mivlo, [start(before)], FRAMES)
    again = replay(before, [], opener(mivlo), start_frame=0, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
    # The page that takes the change over hears it from the step on at which it is told that it acts.
    after = mix_of(saved)
    assert after.tracks[0].ledger[0].move == Bell(hz=900.0, gain_db=-9.0, q=1.0)
    played, said = play(mivlo, [start(before), {"do": "mix", "seq": 1, "mix": after.model_dump(mode="json")}], FRAMES)
    (frame,) = [one["frame"] for one in said if one["say"] == "applied" and one["seq"]]
    again = replay(before, [(frame, after)], opener(mivlo), start_frame=0, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
    assert frame % 64 == 0
