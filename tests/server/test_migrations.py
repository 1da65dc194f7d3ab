"""An installation from before there were groups becomes one with them, on a database of its own."""

import sqlalchemy as sa
from alembic import command

from mivlo.server.db.cluster import start_cluster
from mivlo.server.db.engine import alembic_config


def test_sessions_of_before_groups_get_their_mix_and_nothing_is_lost(scratch):
    cluster = start_cluster(scratch / "older")
    engine = sa.create_engine(cluster.url)
    try:
        with engine.begin() as connection:
            config = alembic_config()
            config.attributes["connection"] = connection
            command.upgrade(config, "0002")
            connection.execute(sa.text(
                "INSERT INTO session (id, name, sample_rate_hz, revision, history_at, is_demo) "
                "VALUES ('s', 'Old', 48000, 3, 3, false)"
            ))  # fmt: skip
            connection.execute(sa.text(
                "INSERT INTO audio VALUES ('a', 's', 'drum.wav', 'x', 'WAV', 'PCM_24', 48000, 10, 1, 10)"
            ))  # fmt: skip
            connection.execute(sa.text(
                "INSERT INTO track VALUES ('t', 's', 0, 'Drum', 'kick', 'a', 0, -3, 0, false, false, false, true, "
                "'[{\"id\": \"e\"}]', '[]')"
            ))  # fmt: skip
            command.upgrade(config, "head")
            groups = connection.execute(sa.text("SELECT session_id, is_mix, name, ledger FROM track_group")).all()
            assert [tuple(group) for group in groups] == [("s", True, "Mix", [])]
            track = connection.execute(sa.text("SELECT gain_db, ledger, phase, keepers, group_id, twin_id FROM track")).one()
            assert tuple(track) == (-3.0, [{"id": "e"}], "minimum", [], None, None)
            command.downgrade(config, "0002")
            command.upgrade(config, "head")
            assert connection.execute(sa.text("SELECT count(*) FROM track_group")).scalar() == 1
    finally:
        engine.dispose()
        cluster.stop()
