"""An installation of before becomes one of now, with nothing lost: a stored dump of a used database."""

import gzip
from collections import Counter
from pathlib import Path

import pytest
import sqlalchemy as sa
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy.orm import Session as Database

from mivlo.server.db.cluster import Cluster, start_cluster
from mivlo.server.db.tables import Base
from mivlo.server.db.upgrade import alembic_config
from mivlo.server.services.sessions import edit_session, list_sessions, read_session, redo, undo
from mivlo.server.services.state import Edit, SessionState, StepInHistory

from .helpers import new_id, set_strip

# pg_dump --inserts of a Mivlo at migration 0006: the demo, and "Older" with groups, twins, moves, pins and a history.
DUMP = Path(__file__).with_name("older_database.sql.gz")


@pytest.fixture(scope="module")
def cluster(scratch):
    running = start_cluster(scratch / "older")
    yield running
    running.stop()


@pytest.fixture(scope="module")
def migrated(cluster: Cluster):
    """Return an engine on the dumped database, migrated."""
    engine = sa.create_engine(cluster.url)
    with engine.begin() as connection:
        plain = connection.connection.driver_connection
        plain.execute("DROP SCHEMA public")
        plain.execute(gzip.decompress(DUMP.read_bytes()))
        plain.execute("SET search_path = public")
        config = alembic_config()
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    yield engine
    engine.dispose()


def older(db: Database) -> SessionState:
    return read_session(db, next(one.id for one in list_sessions(db) if one.name == "Older"))


def test_models_and_migrations_agree(migrated):
    with migrated.connect() as connection:
        ours = {"target_metadata": Base.metadata, "compare_type": True}
        differences = compare_metadata(MigrationContext.configure(connection, opts=ours), Base.metadata)
    # An index that is there already is told as one to drop and one to make alike.
    told = Counter(str(one).upper().replace("REMOVE_", "").replace("ADD_", "") for one in differences)
    of_ours = [one for one, times in told.items() if "PROCRASTINATE" not in one and times == 1]
    assert of_ours == [], "\n".join(map(str, of_ours))


def test_nothing_of_an_older_session_is_lost(migrated):
    with Database(migrated) as db:
        assert {(one.name, one.n_tracks) for one in list_sessions(db)} == {
            ("Boathouse, take 3 (invented)", 9),
            ("Older", 3),
        }
        state = older(db)
    kick, left, right = state.tracks
    assert [pin.excess_db for pin in kick.pins] == [7.5]
    assert (kick.keepers[0].high_hz, kick.dismissed[0].wide, kick.pan, kick.gain_db) == (90.0, True, -0.25, -3.5)
    assert left.ledger == right.ledger
    assert left.ledger[1].move.listens_to == kick.id
    assert (left.phase, right.phase, left.twin_id) == ("linear", "linear", "w")
    assert state.groups[0].name == "Pads"
    assert {left.group_id, right.group_id} == {state.groups[0].id}
    assert (state.groups[0].ledger[0].id, state.groups[0].gain_db, state.master.ledger[0].id) == ("g", -2.0, "m")
    assert (state.sections[0].name, state.loop_end_frame) == ("Verse", 19_200)
    assert state.right_of_way.exceptions[0].first is None
    assert state.audio_of(kick).original_name == "kick.wav"


def test_an_older_history_goes_all_the_way_back_and_on_again(migrated, monkeypatch):
    """The two changes that were taken back before, redone; then everything undone, and redone, once more."""
    # Nobody listens to it here; whether one does is a setting of an installation, which this is not.
    monkeypatch.setattr("mivlo.server.services.sessions.enqueue_listening", lambda *_, **__: None)
    with Database(migrated, expire_on_commit=False) as db:
        state = before = older(db)
        labels = []
        for way, step in ((redo, "redo"), (undo, "undo"), (redo, "redo"), (undo, "undo")):
            states = [state]
            while (coming := getattr(state, step)) is not None:
                labels.append(coming.label)
                state = way(db, state.id, StepInHistory(id=new_id(), of=coming.edit_id)).session
                states.append(state)
            if way is redo and len(states) < 5:
                assert [track.name for track in state.tracks] == [
                    "pad left",
                    "pad right",
                ]  # dissolved, and kick removed
                assert state.groups == ()
        assert labels[:2] == ["Remove kick", "Dissolve"]
        assert state.tracks == ()
        while state.redo is not None and state.redo.label != "Remove kick":
            state = redo(db, state.id, StepInHistory(id=new_id(), of=state.redo.edit_id)).session
        assert (state.tracks, state.groups, state.master) == (before.tracks, before.groups, before.master)
        intents = set_strip(state.tracks[0].model_dump(mode="json"), name="Other")
        edited = edit_session(db, state.id, Edit.model_validate({"id": new_id(), "label": "L", "intents": intents}))
        assert edited.session.tracks[0].name == "Other"
