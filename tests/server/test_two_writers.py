"""Two pages at once, any intents, answers lost on the way: the history is that of a plain list, and nothing is lost."""

from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import reduce
from itertools import groupby, permutations

import httpx
import numpy as np
import pytest

from mivlo.core.errors import MivloError
from mivlo.core.model.intents import apply_all
from mivlo.server.services.state import Edit, SessionState

from .helpers import bell, new_id, session_with_track, set_strip, step_back, upload, wav

EDITS = 40


def any_intents(state: dict, random: np.random.Generator) -> list[dict]:
    """Return something that may be wanted of a session as a page has seen it, possible or not."""
    strips = [*state["tracks"], *state["groups"], state["master"]]
    strip = strips[random.integers(len(strips))]
    on, value = {"strip_id": strip["id"]}, round(float(random.uniform(-1, 1)), 6)
    entries = strip["ledger"]
    entry = entries[random.integers(len(entries))] if entries else bell("nobody")
    moved = {**entry["move"], "gain_db": 20 * value}
    choices: list[list[dict]] = [
        [{"do": "add-move", **on, "entry": bell(new_id(), gain_db=10 * value), "after_id": entry["id"]}],
        [{"do": "set-move", **on, "entry_id": entry["id"], "move": moved, "seen": entry["move"]}],
        [{"do": "remove-move", **on, "entry_id": entry["id"], "seen": entry["move"]}],
        set_strip(strip, gain_db=20 * value),
        set_strip(strip, ledger_on=not strip["ledger_on"], name=f"Name {value}"),
        [{"do": "add-pin", **on, "pin": {"id": new_id(), "hz": 1_000 + 500 * value}}],
        [{"do": "answer-suspect", **on, "answer": "not-a-fault", "hz": 900.0 + value, "q": 3.0}],
        [{"do": "set-loop", "start_frame": 0, "end_frame": int(2_000 + 1_000 * value)}],
        [{"do": "add-group", "group_id": new_id(), "name": f"Group {value}"}],
        [{"do": "remove-group", "group_id": strip["id"]}],
        [{"do": "pair-tracks", "track_id": strip["id"], "with_id": strips[0]["id"], "twin_id": new_id()}],
        [{"do": "set-order", "order": [strip["id"]], "seen": state["right_of_way"]["order"]}],
    ]
    return choices[random.integers(len(choices))]


def write(base_url: str, state: dict, seed: int) -> list[tuple[Edit, dict]]:
    """Edit as one page does; of some edits the answer is lost, and they are sent again. Return edits with answers."""
    random, made = np.random.default_rng(seed), []
    with httpx.Client(base_url=base_url, timeout=60.0, trust_env=False) as http:
        for _ in range(EDITS):
            body = {"id": new_id(), "label": "Change", "intents": any_intents(state, random)}
            answers = [http.post(f"/api/sessions/{state['id']}/edits", json=body) for _ in range(random.integers(1, 4))]
            assert len({answer.status_code for answer in answers}) == 1
            told = [answer.json() for answer in answers]
            if answers[0].status_code == 200:
                assert len({one["revision"] for one in told}) == 1
                made.append((Edit.model_validate(body), told[0]))
                if random.random() < 0.6:  # else it goes on with what it has seen before
                    state = told[-1]["session"]
            else:
                assert answers[0].status_code in (404, 409, 422)
                assert all(one == told[0] for one in told)
    return made


def replayed(session: SessionState, edits: list[Edit]) -> SessionState:
    """Apply edits of one revision: one made it, the others changed nothing after that; which one is not told."""
    for order in permutations(edits):
        with suppress(MivloError):
            return reduce(lambda state, edit: apply_all(state, edit.intents), order, session)
    raise AssertionError(f"in no order: {edits}")


@pytest.mark.parametrize("seed", [1, 2])
def test_whatever_two_pages_do_it_is_as_if_one_had_done_it_after_the_other(api, seed):
    first = session_with_track(api, seconds=0.1)
    first = upload(api, first["id"], "other.wav", wav(0.1)).json()
    with ThreadPoolExecutor(2) as pages:
        both = pages.map(lambda own: write(str(api.base_url), first, own), (10 * seed, 10 * seed + 1))
        made = sorted((one for page in both for one in page), key=lambda one: one[1]["revision"])
    assert len(made) > EDITS / 2
    session = SessionState.model_validate(first)
    revision, changes = first["revision"], 0
    for answered, tied in groupby(made, key=lambda one: one[1]["revision"]):
        if answered != revision:
            assert answered == revision + 1  # made once, however often it was sent
            changes += 1
        revision, session = answered, replayed(session, [edit for edit, _ in tied])
    now = api.get(f"/api/sessions/{first['id']}").json()
    plain = session.model_dump(mode="json")
    parts = ("tracks", "groups", "master", "loop_end_frame", "right_of_way", "name")
    assert {name: now[name] for name in parts} == {name: plain[name] for name in parts}
    assert now["revision"] == revision
    for _ in range(changes):
        now = step_back(api, now)
    assert {name: now[name] for name in parts} == {name: first[name] for name in parts}
