"""What an analysis is: what may be asked, what it is computed from, what comes of it, and how that is shown.

An analysis is one file with one class; `mivlo.core.analyses` names them all. Its figures (`params`) hold all that its
result hangs on, so that they are the address of the result: the same figures are never computed twice.
"""

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, ClassVar, Generic, Literal, TypeVar

from pydantic import BaseModel, TypeAdapter

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.source import Source
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.remembered import remembered
from mivlo.core.units import Array

__all__ = [
    "KEY_BYTES",
    "Analysis",
    "AnyAnalysis",
    "Known",
    "Need",
    "NoFigures",
    "OfSession",
    "OfStrip",
    "Rendering",
    "Sound",
    "Work",
    "key_of",
]

KEY_BYTES = 16
Asked = TypeVar("Asked", bound=BaseModel)
Params = TypeVar("Params", bound=Frozen)
Result = TypeVar("Result")


class OfSession(BaseModel):
    """A question about the whole session, as it is now."""

    model_config = {"extra": "forbid"}


class OfStrip(OfSession):
    """A question about a track, a group or the mix."""

    strip_id: str


class NoFigures(Frozen):
    """What is asked of an analysis that only others need."""


class Rendering(Frozen):
    """What the engine makes of a mix: all of it from frame 0 on, or one track, with its own moves, from where it
    starts."""

    mix: Mix
    what: Literal["mix", "track"]
    n_frames: int
    n_channels: int
    sample_rate_hz: int
    of: "Sound | None" = None  # what the track of the mix is, where that is rendered itself


class Sound(Frozen):
    """A sound to be listened to: a file as it was imported, or what the engine makes of a mix."""

    audio_id: str
    n_frames: int
    n_channels: int
    rendering: Rendering | None = None


@dataclass(frozen=True, slots=True)
class Need:
    """The result of an analysis that another one is computed from."""

    analysis: "Analysis[Any, Any, Any]"
    params: Frozen

    @property
    def key(self) -> str:
        """Return the address of the result."""
        return key_of(self.analysis, self.params)


Known = Callable[[Need], Any]  # returns a result that is kept, or None


@dataclass(frozen=True, slots=True)
class Work:
    """What an analysis works with.

    Parameters
    ----------
    open : opens a sound by its id, at the session's rate
    result : returns the result of a need
    folder_of : returns where the files of a need lie
    folder : where the analysis itself may write files; they are kept together with its result
    report : to be told how much is done, 0 to 1, now and then; raises what ends the work when nobody wants it any more
    """

    open: Callable[[str], Source]
    result: Callable[[Need], Any]
    folder_of: Callable[[Need], Path]
    folder: Path
    report: Callable[[float], None]

    def counted(self, blocks: Iterable[Array], n_frames: int) -> Iterator[Array]:
        """Yield blocks (channels, n) that follow one another, and report how many of some frames have been."""
        done = 0
        for block in blocks:
            yield block
            done += block.shape[1]
            self.report(done / max(n_frames, 1))


class Analysis(ABC, Generic[Asked, Params, Result]):
    """A kind of analysis.

    `name` is its address in the API; `version` goes up with any change of what it returns. `asked` is what a page says,
    `params` what it hangs on, `result` what is kept of it (a model or a dataclass), `shown` what a page gets; whether
    it `writes_files` beside its result.
    """

    name: ClassVar[str]
    version: ClassVar[int] = 1
    asked: ClassVar[type[BaseModel]] = NoFigures
    params: ClassVar[type[Frozen]]
    result: ClassVar[Any]
    shown: ClassVar[Any] = None
    writes_files: ClassVar[bool] = False
    hangs_on_all: ClassVar[bool] = False  # on every track: not foreseen while more of them are taken in

    @abstractmethod
    def analyse(self, work: Work, params: Params) -> Result:
        """Return the result; its figures and layout are stated by its type.

        Raises
        ------
        MivloError: what cannot be analysed, and why; the same every time
        """

    def question(self, session: RecordedSession, asked: Asked, known: Known) -> Params:
        """Return what a question comes to in a session as it is now.

        Parameters
        ----------
        known : looks up results that are kept, for questions about what another analysis has found

        Raises
        ------
        NotFoundError: of whom it is asked is not there
        ParameterError: figures that do not fit
        """
        raise NotImplementedError(f"{self.name} is for other analyses")

    def needs(self, params: Params) -> Iterable[Need]:
        """Return what must have been computed before, beside the sounds that the figures name. Raises nothing."""
        return ()

    def show(self, session: RecordedSession, asked: Asked, params: Params, result: Result) -> Any:
        """Return what a page is shown of a result, in a session as it is now. Raises nothing. Source: ours."""
        return result

    def foreseen(self, session: RecordedSession) -> Iterable[Asked]:
        """Return what will be asked of a session sooner or later: it is computed in the background. Raises nothing."""
        return ()

    def adapter(self) -> TypeAdapter[Any]:
        """Return what writes and reads results. Raises nothing. Source: ours."""
        return _adapter(self.result)

    def shown_adapter(self) -> TypeAdapter[Any]:
        """Return what writes what a page is shown. Raises nothing. Source: ours."""
        return _adapter(self.shown or self.result)

    @property
    def is_asked_for(self) -> bool:
        """Whether a page can ask for it."""
        return self.asked is not NoFigures


AnyAnalysis = Analysis[Any, Any, Any]


@cache
def _adapter(result: Any) -> TypeAdapter[Any]:
    return TypeAdapter(result)


def key_of(analysis: AnyAnalysis, params: Frozen) -> str:
    """Return the address of a result, 32 hexadecimal digits made of all that it hangs on. Raises nothing."""
    return _key_of(params, analysis.name, analysis.version)


@remembered(512)  # the map of each of 64 tracks is named by each of the 64
def _key_of(params: Frozen, name: str, version: int) -> str:
    text = f"{name} {version} {params.model_dump_json()}"
    return hashlib.blake2b(text.encode(), digest_size=KEY_BYTES).hexdigest()
