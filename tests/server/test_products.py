"""What is computed: once, in order of who waits, kept over restarts, given up, tried again, thrown away for room."""

import asyncio
import json
import shutil
import threading
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import procrastinate
import pytest
import websockets.sync.client
from procrastinate.exceptions import ConnectorException
from sqlalchemy import delete, select, text, update

from mivlo.core.analyses.picture import Pictures
from mivlo.core.analyses.pitch import PitchLines
from mivlo.core.analyses.registry import ANALYSES, foreseen
from mivlo.core.analyses.suspects import SuspectsOf
from mivlo.core.analyses.waveform import Waveforms
from mivlo.core.engine.listening import Listening, match_question
from mivlo.core.errors import ParameterError
from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import ProductNeedRow, ProductRow, ProductWantRow
from mivlo.server.jobs.compute import PROGRESS_S, CancelledError, compute, evict
from mivlo.server.jobs.worker import ALL_QUEUES, work
from mivlo.server.services import products
from mivlo.server.services.analyses import listen
from mivlo.server.services.level_match import level_match
from mivlo.server.services.products import (
    ENDED,
    WAITED_QUEUE,
    Priority,
    begin,
    drop,
    listened_to,
    look_at,
    want,
    wanted_of,
)
from mivlo.server.services.state import SessionState
from mivlo.server.services.waiting import look_again
from mivlo.server.settings import settings

from .helpers import RATE, SEEDS, analysed, bell, edit, new_id, rows, session_with_track, set_track, with_tracks
from .test_healing import until


def listened(state: dict) -> Counter[str]:
    """Let everything be listened to that the session needs, to the end; return how many of each kind are kept."""
    listen(state["id"])

    def is_done() -> bool:
        with open_db() as db:
            told = listened_to(db, state["id"])
        return told.of > 0 and told.done == told.of

    until(is_done, 60.0)
    assert {row.status for row in rows(state)} == {"done"}
    return Counter(row.kind for row in rows(state))


def answered(**figures) -> dict:
    """Return a move that answers a suspect."""
    found = {"kind": "ring", "hz": 431.0, "q": 20.0, "excess_db": 6.0, "ring_s": 0.2, "start_s": 0.0, "end_s": 2.0}
    return bell(**figures) | {"evidence": {**found, "times": [[0.5, 1.0]], "behaviour": "steady"}}


def test_a_fader_that_moves_recomputes_what_hears_it_and_nothing_else(api):
    state = with_tracks(api, 2.0, 3.0, 2.5)
    state = edit(api, state, set_track(state, ledger=[answered()])).json()
    known = listened(state)
    each = ("picture", "waveform", "spectrum", "suspects", "pitch", "low-end", "ear-map", "in-mix", "file-faults")
    once = ["cellar", "ensemble", "cure", "listening-level", "plan", "relations", "rendered"]
    assert known == Counter(dict.fromkeys(each, 3)) + Counter(once)
    when = {row.id: row.ended_at for row in rows(state)}
    # All that is foreseen is what pages ask for, and it is there.
    now = SessionState.model_validate(state)
    for analysis, asked, _ in foreseen(now):
        path = f"/api/sessions/{state['id']}/analyses/{analysis.name}"
        assert api.post(path, json=asked.model_dump(mode="json")).json()["status"] == "done"
    louder = edit(api, state, set_track(state, 1, gain_db=-7.5)).json()
    together = Counter(["ensemble", "listening-level", "plan"]) + Counter({"in-mix": 3})
    assert listened(louder) - known == Counter(["cellar"]) + together
    assert {one: when[one] for one in when} == {row.id: row.ended_at for row in rows(state) if row.id in when}
    # A move that is changed is heard again where it acts: in one map, one cure, and by all together.
    deeper = edit(api, louder, set_track(louder, ledger=[answered(gain_db=-12.0)])).json()
    assert listened(deeper) - known == together + together + Counter(["cellar", "ear-map", "cure", "rendered"])
    kept = {row.id for row in rows(state)}
    listened(edit(api, deeper, set_track(deeper, ledger=[answered()])).json())
    assert kept == {row.id for row in rows(state)}  # as it was: nothing is computed at all


@pytest.fixture
def held(monkeypatch) -> threading.Event:
    """Hold the worker at the first waveform until told to go on."""
    go_on, begun = threading.Event(), threading.Event()
    analyse = Waveforms.analyse

    def waits(self, work, params):
        begun.set()
        assert go_on.wait(30.0)
        return analyse(self, work, params)

    monkeypatch.setattr(Waveforms, "analyse", waits)
    go_on.begun = begun
    yield go_on
    go_on.set()


def queued(product_id: str) -> list[int]:
    """Return the priorities under which a product stands in the queue: what is waited for, in one of its own."""
    with open_db() as db:
        found = db.execute(
            text("SELECT priority, queue_name FROM procrastinate_jobs WHERE queueing_lock = :id AND status = 'todo'"),
            {"id": product_id},
        ).all()
    assert all((queue == WAITED_QUEUE) == (priority >= Priority.WAITED_FOR) for priority, queue in found)
    return [priority for priority, _ in found]


def wanted(state: dict, name: str, index: int, priority: Priority, *, wanter: str | None = None, **kind) -> str:
    now = SessionState.model_validate(state)
    analysis, strip_id = ANALYSES[name], state["tracks"][index]["id"]
    params = analysis.question(now, analysis.asked(strip_id=strip_id), lambda _: None)
    with open_db() as db:
        one = wanted_of(state["id"], strip_id, analysis, params)
        row = want(db, one, priority=priority, wanter=wanter, **kind)
        db.commit()
        return row.id


def test_who_waits_comes_first_each_product_once_and_what_nobody_wants_is_given_up(api, held):
    state = with_tracks(api, 1.0, 1.0, 1.0, 1.0)
    wanted(state, "waveform", 0, Priority.WAITED_FOR)
    assert held.begun.wait(30.0)
    background = [wanted(state, "pitch", index, Priority.BACKGROUND, foreseen=True) for index in (0, 1, 2)]
    with ThreadPoolExecutor(8) as many:  # however many ask at once
        asked = set(many.map(lambda n: wanted(state, "pitch", 3, Priority.WAITED_FOR, wanter=f"page {n}"), range(8)))
    (waited_for,) = asked
    assert queued(waited_for) == [Priority.WAITED_FOR]
    with open_db() as db:
        look_at(db, state["id"], state["tracks"][2]["id"])
        db.commit()
    assert [queued(one) for one in background] == [[0], [0], [Priority.LOOKED_AT]]
    # Somebody waits for what was foreseen, and leaves: it stays, as it was.
    wanted(state, "pitch", 1, Priority.WAITED_FOR, wanter="page 1")
    assert queued(background[1]) == [Priority.WAITED_FOR]
    given_up = wanted(state, "spectrum", 0, Priority.WAITED_FOR, wanter="page 1")
    also_wanted = wanted(state, "spectrum", 1, Priority.WAITED_FOR, wanter="page 1")
    wanted(state, "spectrum", 1, Priority.WAITED_FOR, wanter="page 2")
    with open_db() as db:
        drop(db, "page 1")
        db.commit()
    assert queued(background[1]) == [Priority.BACKGROUND]
    assert queued(given_up) == []
    assert queued(also_wanted) == [Priority.WAITED_FOR]
    held.set()
    until(lambda: all(row.status == "done" for row in rows(state)))
    order = [row.id for row in rows(state) if row.kind != "waveform"]
    assert order == [waited_for, also_wanted, background[2], background[0], background[1]]
    with open_db() as db:
        assert db.scalars(select(ProductWantRow)).all() == []


def test_what_is_heard_goes_before_what_is_waited_for_and_who_asks_otherwise_waits_no_longer(api, held):
    state = with_tracks(api, 2.0)
    state = edit(api, state, set_track(state, ledger=[bell()])).json()
    wanted(state, "waveform", 0, Priority.WAITED_FOR)
    assert held.begun.wait(10.0)
    now, asked = SessionState.model_validate(state), [True]
    question = match_question(now, Listening(strip_id=state["tracks"][0]["id"]), end_frame=now.end_frame())
    with ThreadPoolExecutor(1) as one:
        match = one.submit(
            level_match, question, session_id=state["id"], sample_rate_hz=RATE, wanter="a", is_wanted=lambda: asked[0]
        )
        until(lambda: "loudness" in {row.kind for row in rows(state)})
        heard = [row.id for row in rows(state) if row.kind == "loudness"]
        assert [queued(one) for one in heard] == [[Priority.HEARD], [Priority.HEARD]]
        asked[0] = False
        look_again()
        with pytest.raises(LookupError):
            match.result(10.0)


def test_many_who_ask_give_up_and_finish_at_once_never_wait_for_one_another_for_good(api, held):
    """They lock products that are tied to one another in every direction; PostgreSQL would end one of two."""
    state = with_tracks(api, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0)
    wanted(state, "waveform", 0, Priority.WAITED_FOR)
    assert held.begun.wait(30.0)

    def busy(seed: int) -> None:
        random, page = np.random.default_rng(seed), f"page {seed}"
        for _ in range(12):
            priority = random.choice([Priority.BACKGROUND, Priority.LOOKED_AT, Priority.WAITED_FOR])
            index, foreseen_too = int(random.integers(6)), bool(random.random() < 0.5)
            wanted(state, "in-mix", index, Priority(int(priority)), wanter=page, foreseen=foreseen_too)
            with open_db() as db:
                if random.random() < 0.4:
                    drop(db, page)
                elif random.random() < 0.5:
                    look_at(db, state["id"], state["tracks"][index]["id"])
                else:
                    waiting = select(ProductRow.id).where(ProductRow.status == "waiting", ProductRow.kind == "ear-map")
                    for one in db.scalars(waiting.order_by(ProductRow.id.desc()).limit(2)).all():
                        products.finish(db, one, status="failed", code="disk", reason="test")
                db.commit()

    with ThreadPoolExecutor(8) as many:
        assert list(many.map(busy, range(8))) == [None] * 8
    held.set()


def test_what_a_worker_fetched_before_it_died_is_fetched_again_and_what_a_living_one_has_is_not(api, held):
    state = with_tracks(api, 1.0, 1.0)
    running = wanted(state, "waveform", 0, Priority.WAITED_FOR)
    assert held.begun.wait(30.0)
    lost = wanted(state, "pitch", 0, Priority.WAITED_FOR)
    with open_db() as db:
        died = text("UPDATE procrastinate_jobs SET status = 'doing' WHERE queueing_lock = :id")
        db.execute(died, {"id": lost})
        db.commit()
        assert queued(lost) == []
        products.fetch_again(db, silent_s=8.0)
        db.commit()
    assert queued(lost) == [Priority.WAITED_FOR]
    assert queued(running) == []
    held.set()
    until(lambda: {row.status for row in rows(state)} == {"done"})


def test_what_a_group_sounds_like_is_rendered_once_for_all_that_look_at_it(api, held):
    state = with_tracks(api, 1.0, 1.0)
    held.set()
    mix = state["master"]["id"]
    with ThreadPoolExecutor(4) as many:
        names = ("spectrum", "waveform", "pitch", "suspects")
        answers = list(many.map(lambda name: analysed(api, state, name, strip_id=mix), names))
    assert all(isinstance(answer, dict) for answer in answers)
    assert Counter(row.kind for row in rows(state)) == Counter(["rendered", *names])
    with open_db() as db:
        assert db.scalars(select(ProductNeedRow)).all() == []


def test_what_is_refused_is_kept_with_its_reason_and_what_breaks_is_tried_three_times(api, monkeypatch):
    state = with_tracks(api, 1.0)
    tries: list[Callable[[], None]] = []

    def refuses(*_):
        tries.append(refuses)
        raise ParameterError("hz=0 must be between 20 and 20000")

    def breaks(*_):
        tries.append(breaks)
        raise RuntimeError("meant to")

    monkeypatch.setattr(PitchLines, "analyse", refuses)
    for _ in range(2):
        refused = analysed(api, state, "pitch", strip_id=state["tracks"][0]["id"])
        assert (refused.status_code, refused.json()["message"]) == (422, "hz=0 must be between 20 and 20000")
    assert tries == [refuses]
    monkeypatch.setattr(PitchLines, "analyse", breaks)
    mix = state["master"]["id"]
    for _ in range(2):
        broken = analysed(api, state, "pitch", strip_id=mix)
        assert (broken.status_code, "unforeseen fault" in broken.text) == (400, True)
    assert tries[1:] == 3 * [breaks]
    # What may have passed is tried anew when somebody asks later.
    monkeypatch.undo()
    with open_db() as db:
        past = products.datetime.now(products.UTC) - 2 * products.TRIED_AGAIN_AFTER
        db.execute(update(ProductRow).where(ProductRow.status == "failed").values(ended_at=past))
        db.commit()
    assert analysed(api, state, "pitch", strip_id=mix)["one_voice"] in (True, False)
    assert analysed(api, state, "pitch", strip_id=state["tracks"][0]["id"]).status_code == 422
    # What needs what has failed has failed, too.
    rendered = next(row for row in rows(state) if row.kind == "rendered")
    with open_db() as db:
        values = {"status": "failed", "code": "bad-parameter", "reason": "no way"}
        db.execute(update(ProductRow).where(ProductRow.id == rendered.id).values(**values))
        db.commit()
    assert analysed(api, state, "waveform", strip_id=mix).json()["message"] == "no way"


def test_room_is_made_by_what_was_not_used_for_longest_and_sound_stays(api):
    state = with_tracks(api, 2.0)
    track, mix = state["tracks"][0]["id"], state["master"]["id"]
    before = analysed(api, state, "spectrum", strip_id=mix)
    analysed(api, state, "picture", strip_id=track, place={"time_zoom": 3})
    with open_db() as db:
        old = products.datetime.now(products.UTC) - 10 * products.USED_NOTED
        rendered = update(ProductRow).where(ProductRow.kind == "rendered", ProductRow.session_id == state["id"])
        db.execute(rendered.values(used_at=old))
        db.commit()
        kept = select(ProductRow).where(ProductRow.status == "done", ProductRow.kind.in_(ANALYSES))
        total = sum(row.bytes for row in db.scalars(kept))
        evict(db, total - 1)
        db.commit()
    assert Counter(row.kind for row in rows(state)) == Counter(["spectrum", "picture"])
    folders = {row.id: settings().product_folder(row.id).is_dir() for row in rows(state)}
    assert sorted(folders.values()) == [False, True]  # a picture has a file, a spectrum has none
    assert analysed(api, state, "waveform", strip_id=mix)  # what was thrown away is made again where it is needed
    with open_db() as db:
        evict(db, 0)
        db.commit()
    assert rows(state) == []
    assert analysed(api, state, "spectrum", strip_id=mix) == before
    assert api.get(f"/api/sessions/{state['id']}").json()["tracks"] == state["tracks"]


def test_pages_are_told_and_what_they_leave_is_given_up(api, held):
    state = with_tracks(api, 1.0, 1.0)
    page = new_id()
    address = f"{str(api.base_url).replace('http', 'ws')}/api/sessions/{state['id']}/news?page={page}"
    wanted(state, "waveform", 0, Priority.WAITED_FOR)
    assert held.begun.wait(30.0)

    def asked(index: int) -> str:
        path = f"/api/sessions/{state['id']}/analyses/pitch"
        body = {"strip_id": state["tracks"][index]["id"]}
        return api.post(path, json=body, headers={"x-mivlo-page": page}).json()["id"]

    with websockets.sync.client.connect(address, origin=str(api.base_url)) as socket:
        first, second = asked(0), asked(1)
        socket.send(json.dumps({"do": "give-up", "product_ids": [first]}))
        until(lambda: queued(first) == [])
        assert queued(second) == [Priority.WAITED_FOR]
        socket.send("nonsense")  # of a page of another version
        socket.send(json.dumps({"do": "look-at", "strip_id": state["tracks"][0]["id"]}))
        edit(api, state, set_track(state, gain_db=-1.0))
        while (told := json.loads(socket.recv(10.0)))["about"] != "revision":
            pass
        assert told["revision"] == state["revision"] + 1
    until(lambda: queued(second) == [])
    with websockets.sync.client.connect(address, origin=str(api.base_url)) as socket:
        third = asked(1)
        held.set()
        stages = []
        while not stages or stages[-1] != "done":
            told = json.loads(socket.recv(10.0))
            if told["about"] == "product" and told["id"] == third:
                stages.append(told["status"])
        assert stages == ["running", "done"]
    with pytest.raises(websockets.exceptions.InvalidStatus):
        websockets.sync.client.connect(address, origin="http://elsewhere.example")


def test_a_worker_ends_without_a_page_of_traceback_when_the_end_of_a_job_cannot_be_noted(api, monkeypatch, caplog):
    async def noted() -> None:
        raise ConnectorException

    async def run(self, **_) -> None:
        asyncio.create_task(noted())  # noqa: RUF006 - which nobody awaits, as in the queue
        await asyncio.Event().wait()

    monkeypatch.setattr(procrastinate.App, "run_worker_async", run)
    with pytest.raises(ConnectorException):
        asyncio.run(asyncio.wait_for(work("elsewhere", ALL_QUEUES, stop=asyncio.Event()), 10.0))
    assert "never retrieved" not in caplog.text


# With processes of its own


def test_what_the_same_file_gave_in_another_session_is_not_computed_again(api, monkeypatch):
    begun: list[str] = []
    for kind in (Pictures, SuspectsOf):

        def counted(self, work, params, analyse=kind.analyse):
            begun.append(self.name)
            return analyse(self, work, params)

        monkeypatch.setattr(kind, "analyse", counted)
    seed = next(SEEDS)

    def answers(role: str = "kick") -> tuple[dict, dict, bytes]:
        state = session_with_track(api, seconds=3.0, seed=seed, role=role)
        strip = {"strip_id": state["tracks"][0]["id"]}
        found = analysed(api, state, "suspects", **strip)
        asked = strip | {"shows": "before", "place": {"time_zoom": 2}}
        analysed(api, state, "picture", **asked)
        product = api.post(f"/api/sessions/{state['id']}/analyses/picture", json=asked).json()["id"]
        return state, found, picture_of(product)

    def picture_of(product: str) -> bytes:
        return api.get(f"/api/products/{product}/picture.png").content

    first, found, picture = answers()
    again, found_again, picture_again = answers()
    assert (found_again, picture_again) == (found, picture)
    assert Counter(begun) == {"suspects": 1, "picture": 1}
    assert api.delete(f"/api/sessions/{first['id']}?for_good=true").json() == {"freed_bytes": 0}  # the other has it all
    (kept,) = (row.id for row in rows(again) if row.kind == "picture")
    assert picture_of(kept) == picture
    answers(role="lead voice")  # is looked for other faults, and looks the same
    assert Counter(begun) == {"suspects": 2, "picture": 1}


@pytest.mark.parametrize("again", ["suspects", "in-mix", None])
def test_what_is_wanted_again_while_its_worker_stops_is_computed_for_whoever_asked(api, monkeypatch, again):
    """By itself or for what needs it; as where a blind check wants a loudness just when the page has given it up."""
    state = with_tracks(api, 2.0 + len(again or "") / 10)
    analyse, stops = SuspectsOf.analyse, [True]

    def stopped_once(self, work, params):
        if not stops:
            return analyse(self, work, params)
        stops.clear()
        with open_db() as db:
            drop(db, "page")
            db.commit()
        time.sleep(2 * PROGRESS_S)
        try:
            work.report(0.5)
        except CancelledError:
            if again is not None:
                wanted(state, again, 0, Priority.HEARD, wanter="blind")
            raise
        raise AssertionError("nobody wanted it any more")

    monkeypatch.setattr(SuspectsOf, "analyse", stopped_once)
    wanted(state, "suspects", 0, Priority.HEARD, wanter="page")
    until(lambda: not stops and {row.status for row in rows(state)} <= set(ENDED), 30.0)
    of = {row.kind: (row.status, row.tries) for row in rows(state)}
    assert of["suspects"] == (("cancelled", 1) if again is None else ("done", 1))
    assert again is None or of[again] == ("done", 1)


def test_what_was_thrown_away_before_it_was_needed_is_computed_again(api):
    state = with_tracks(api, 2.0, 2.5)
    analysed(api, state, "ensemble")
    now = SessionState.model_validate(api.get(f"/api/sessions/{state['id']}").json())
    ensemble = ANALYSES["ensemble"]
    figures = ensemble.question(now, ensemble.asked(), lambda _: None)
    of = {row.kind: row.id for row in rows(state)}
    with open_db() as db:  # as if it had begun just when room was made
        db.execute(delete(ProductRow).where(ProductRow.id == of["ear-map"]))
        again = {"status": "waiting", "params": figures.model_dump_json()}
        db.execute(update(ProductRow).where(ProductRow.id == of["ensemble"]).values(**again))
        db.commit()
    shutil.rmtree(settings().product_folder(of["ear-map"]))
    compute(of["ensemble"], "here")
    until(lambda: {row.kind: row.status for row in rows(state)}["ensemble"] == "done", 30.0)
    assert settings().product_folder(of["ear-map"]).exists()


def test_a_worker_that_was_not_told_that_it_began_goes_on_and_no_other_one_does(api):
    state = session_with_track(api)
    strip_id = state["tracks"][0]["id"]
    analysed(api, state, "waveform", strip_id=strip_id)
    now = SessionState.model_validate(api.get(f"/api/sessions/{state['id']}").json())
    waveform = ANALYSES["waveform"]
    figures = waveform.question(now, waveform.asked(strip_id=strip_id), lambda _: None)
    [own] = [row.id for row in rows(state) if row.kind == "waveform"]
    with open_db() as db:
        again = {"status": "waiting", "tries": 0, "params": figures.model_dump_json()}
        db.execute(update(ProductRow).where(ProductRow.id == own).values(**again))
        assert begin(db, own, "here") is not None
        assert begin(db, own, "elsewhere") is None
        db.commit()
    compute(own, "here")
    [row] = [row for row in rows(state) if row.id == own]
    assert (row.status, row.tries) == ("done", 1)
