"""News, by PostgreSQL's own LISTEN and NOTIFY: every process hears of what any process has committed."""

import asyncio
import logging
from collections.abc import AsyncIterator
from typing import Annotated, Literal

import psycopg
from pydantic import BaseModel, Field, TypeAdapter
from sqlalchemy import text
from sqlalchemy.orm import Session as Database

from mivlo.server.settings import settings

__all__ = ["AnyNews", "ListenedTo", "News", "ProductNews", "Revised", "received", "tell"]

CHANNEL = "mivlo_news"
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.25, 5.0
log = logging.getLogger(__name__)


class Revised(BaseModel):
    """A session was changed."""

    about: Literal["revision"] = "revision"
    session_id: str
    revision: int


class ProductNews(BaseModel):
    """Something that is computed, or handed over, got further; of what ended nothing more will be told."""

    about: Literal["product"] = "product"
    session_id: str
    id: str
    kind: str
    status: Literal["waiting", "running", "done", "failed", "cancelled"]
    progress: float = 0.0


class ListenedTo(BaseModel):
    """How much of all that a session needs has been listened to, and whose turn is still to come."""

    about: Literal["listening"] = "listening"
    session_id: str
    done: int
    of: int
    strip_ids: list[str]  # those of which something is not done yet


AnyNews = Annotated[Revised | ProductNews | ListenedTo, Field(discriminator="about")]
News = Revised | ProductNews | ListenedTo
_adapter: TypeAdapter[News] = TypeAdapter(AnyNews)


def tell(db: Database, news: News) -> None:
    """Tell everybody, once this transaction is committed."""
    db.execute(text("SELECT pg_notify(:channel, :news)"), {"channel": CHANNEL, "news": news.model_dump_json()})


async def received() -> AsyncIterator[News | None]:
    """Yield all news, for good; None whenever listening begins (again).

    While the database is away it is tried again, with pauses that grow; what was missed meanwhile nobody tells,
    hence the None: whoever holds something reads it anew.
    """
    pause_s = FIRST_PAUSE_S
    while True:
        try:
            async with await psycopg.AsyncConnection.connect(settings().conninfo, autocommit=True) as connection:
                await connection.execute(f"LISTEN {CHANNEL}")
                pause_s = FIRST_PAUSE_S
                yield None
                async for notice in connection.notifies():
                    yield _adapter.validate_json(notice.payload)
        except psycopg.OperationalError:
            log.debug("news: the database is away; trying again in %.2f s", pause_s)
        await asyncio.sleep(pause_s)
        pause_s = min(2 * pause_s, LONGEST_PAUSE_S)
