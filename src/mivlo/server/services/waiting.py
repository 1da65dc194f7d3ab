"""Waiting, in a thread, for products that workers compute: woken by the news, never asking again and again."""

import threading
from collections import defaultdict
from collections.abc import Callable

from mivlo.server.db.engine import open_db
from mivlo.server.db.news import News, ProductNews
from mivlo.server.db.tables import ProductRow
from mivlo.server.services.products import ENDED

__all__ = ["ended", "hear", "look_again"]

_lock = threading.Lock()
_waiting: defaultdict[str, set[threading.Event]] = defaultdict(set)


def hear(news: News | None) -> None:
    """Wake whoever waits for what the news are about; None, when some were missed: everybody."""
    with _lock:
        if news is None:
            events = [event for some in _waiting.values() for event in some]
        elif isinstance(news, ProductNews) and news.status in ENDED:
            events = list(_waiting.get(news.id, ()))
        else:
            return
    for event in events:
        event.set()


def look_again() -> None:
    """Let everybody who waits ask whether that is still wanted."""
    hear(None)


def ended(product_id: str, *, is_wanted: Callable[[], bool] = lambda: True) -> ProductRow:
    """Return a product that was asked for once it is done, or has failed.

    `is_wanted` is asked whenever there is any news of it, and by `look_again`.

    Raises
    ------
    SQLAlchemyError: the database is away when it is looked up
    LookupError: it was given up meanwhile, by whoever asked for it, or is not wanted any more
    """
    event = threading.Event()
    with _lock:
        _waiting[product_id].add(event)
    try:
        while True:
            with open_db() as db:
                row = db.get(ProductRow, product_id)
            if row is None or not is_wanted():
                raise LookupError(f"product {product_id} was given up")
            if row.status in ENDED:
                return row
            event.wait()
            event.clear()
    finally:
        with _lock:
            _waiting[product_id].discard(event)
            if not _waiting[product_id]:
                del _waiting[product_id]
