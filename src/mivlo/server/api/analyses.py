"""Analyses: one address for each that can be asked for; answers that are not there yet are told of by the news."""

from collections.abc import Callable
from typing import Annotated, Any, Generic, Literal, TypeVar

from fastapi import APIRouter, Header, Path, Query, Response
from fastapi.responses import FileResponse
from pydantic import BaseModel

from mivlo.core.analyses.base import AnyAnalysis
from mivlo.core.analyses.picture import PICTURE
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.errors import NotFoundError
from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.db.news import ListenedTo
from mivlo.server.services.analyses import ask
from mivlo.server.services.products import Priority, listened_to
from mivlo.server.settings import settings

__all__ = ["Answer", "router"]

router = APIRouter(prefix="/api", tags=["analyses"], responses={404: {"model": Problem}, 422: {"model": Problem}})
Shown = TypeVar("Shown")
# Under which name a page hears the news: when it leaves, nothing is computed for it any more.
PageId = Annotated[str | None, Header(alias="x-mivlo-page", pattern="^[0-9a-f]{32}$")]
Soon = Annotated[bool, Query(description="it can wait for what else is asked")]


class Answer(BaseModel, Generic[Shown]):
    """The answer to a question; until it is there, the product's id, by which the news tell of it."""

    id: str
    status: Literal["waiting", "running", "done"]
    progress: float
    result: Shown | None


def _route_of(analysis: AnyAnalysis) -> Callable[..., Response]:
    def route(now: Now, asked: Any, x_mivlo_page: PageId = None, soon: Soon = False) -> Response:
        priority = Priority.LOOKED_AT if soon else Priority.WAITED_FOR
        asking = ask(now, analysis, asked, priority=priority, wanter=x_mivlo_page)
        head = Answer[None](id=asking.id, status=asking.status, progress=asking.progress, result=None)
        if asking.shown is None:
            return Response(head.model_dump_json(), media_type="application/json")
        # What is kept as JSON goes out as it is kept.
        rest = head.model_dump_json(exclude={"result"}).encode()
        return Response(rest[:-1] + b',"result":' + asking.shown + b"}", media_type="application/json")

    route.__annotations__["asked"] = analysis.asked
    route.__name__ = analysis.name.replace("-", "_")
    return route


def _add_routes() -> None:
    for analysis in ANALYSES.values():
        if analysis.is_asked_for:
            answer: Any = Answer.__class_getitem__(analysis.shown or analysis.result)
            about = (type(analysis).__doc__ or "").split("\n")[0]
            path = f"/sessions/{{session_id}}/analyses/{analysis.name}"
            router.add_api_route(path, _route_of(analysis), methods=["POST"], response_model=answer, description=about)


_add_routes()


@router.get("/sessions/{session_id}/listening")
def listening(session_id: str, db: Db) -> ListenedTo:
    """Return how much of what a session needs has been listened to."""
    return listened_to(db, session_id)


@router.get("/products/{product_id}/picture.png", response_class=FileResponse)
def picture(product_id: Annotated[str, Path(pattern="^[0-9a-f]{32}$")]) -> FileResponse:
    """Return a picture that was computed; its opacity is the ink."""
    path = settings().product_folder(product_id) / PICTURE
    if not path.is_file():
        raise NotFoundError(f"picture {product_id} is not there (any more): ask for it again")
    return FileResponse(path, media_type="image/png", headers={"cache-control": "max-age=31536000, immutable"})
