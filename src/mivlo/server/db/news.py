"""News of changes, by PostgreSQL's own LISTEN and NOTIFY: every process hears of what any process has committed."""

import asyncio
import logging
from collections.abc import AsyncIterator

import psycopg

from mivlo.server.settings import settings

__all__ = ["CHANNEL", "changes"]

CHANNEL = "mivlo_news"
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.25, 5.0
log = logging.getLogger(__name__)


async def changes() -> AsyncIterator[tuple[str, int] | None]:
    """Yield (session id, revision) of each change, for good; None whenever listening begins (again).

    While the database is away it is tried again, with pauses that grow; what was missed meanwhile nobody tells,
    hence the None: whoever holds a session reads it anew.
    """
    pause_s = FIRST_PAUSE_S
    while True:
        try:
            async with await psycopg.AsyncConnection.connect(settings().conninfo, autocommit=True) as connection:
                await connection.execute(f"LISTEN {CHANNEL}")
                pause_s = FIRST_PAUSE_S
                yield None
                async for notice in connection.notifies():
                    session_id, _, revision = notice.payload.partition(" ")
                    yield session_id, int(revision)
        except psycopg.OperationalError:
            log.debug("news: the database is away; trying again in %.2f s", pause_s)
        await asyncio.sleep(pause_s)
        pause_s = min(2 * pause_s, LONGEST_PAUSE_S)
