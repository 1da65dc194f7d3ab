"""One page's end of the monitor: how it listens, what it hears by that, and what was measured for it."""

import asyncio
import contextlib
import threading
from collections.abc import Coroutine, Iterable
from concurrent.futures import BrokenExecutor
from pathlib import Path
from typing import Any

from fastapi import WebSocket, WebSocketDisconnect
from sqlalchemy.exc import SQLAlchemyError

from mivlo.core.engine.listening import Blind, Listening, MatchQuestion, heard_mix, match_question
from mivlo.core.engine.mix import Mix
from mivlo.core.errors import MivloError
from mivlo.core.level_match import LevelMatch
from mivlo.core.model import Session
from mivlo.core.model.intents import apply_all
from mivlo.core.spectra.smoothing import Smoothing
from mivlo.server.db.tables import new_id
from mivlo.server.monitor.changes import Changes
from mivlo.server.monitor.held import HeldSessions, draft_of, pressed_of
from mivlo.server.monitor.measuring import submit
from mivlo.server.monitor.messages import Held, Late, Listen, Match, Play, Problem, Spectra, Stop
from mivlo.server.monitor.player import Change, LivePlay, Message
from mivlo.server.monitor.spectra import measured_levels
from mivlo.server.services.level_match import give_up, level_match, rough_match
from mivlo.server.services.state import Draft, SessionState

__all__ = ["NO_DATABASE", "Page"]

NO_DATABASE = "the database does not answer: what is playing goes on as it is, edits wait"
NOT_YET = {"this_db": -60.0, "other_db": -60.0}
PATIENCE_S = 0.3  # a listening waits so long for the revision that it was made on; then what is held is played


class Page:
    """Builds what one page hears: anew when it listens otherwise, when the session changes, and when a figure is in."""

    def __init__(self, socket: WebSocket, sessions: HeldSessions, audio_folder: Path) -> None:
        self._socket = socket
        self._sessions = sessions
        self._folder = audio_folder
        self._changes = Changes(self.send)
        self._play: LivePlay | None = None
        self._asked: Play | Listen | None = None  # the newest way of listening
        self._log = False
        self._draft: Draft | None = None
        self._pressed: dict[Blind, Listening] = {}  # of one trial of a blind check
        self._match: LevelMatch | None = None
        self._question: MatchQuestion | None = None  # that was measured, or is being
        self._looked_at: object = None  # revision and subject of the last question
        self._subject: object = None  # what a match is of: one of something else is not heard
        self._tasks: set[asyncio.Task[None]] = set()
        self._renewing: asyncio.Task[None] | None = None
        self._measuring = False
        self._wanter = f"sound {new_id()}"
        self._spectra: asyncio.Task[None] | None = None

    @property
    def session_id(self) -> str | None:
        """Return which session is listened to."""
        return self._asked.session_id if self._asked is not None else None

    async def take(self, message: Play | Listen | Held | Late | Stop) -> None:
        """Do what the page says.

        Raises
        ------
        MivloError, OSError, SQLAlchemyError: what cannot be played, and why
        """
        match message:
            case Play():
                await self._start(message)
            case Listen():
                await self._listen(message)
            case Stop():
                self._change_over(None)
            case Held():
                if self._play is not None:
                    await self.send(self._play.held(message))
            case Late():
                if self._play is not None:
                    await self.send(self._play.late(message))
        if self._play is not None and (self._spectra is None or self._spectra.done()):
            self._spectra = self._begin(self._send_spectra(self._play))

    def renew(self, revision: int | None) -> None:
        """Go on with a newer revision of the session; None: whichever is the newest."""
        if self._asked is not None:
            self._begin(self._take_over(revision))

    def leave(self) -> None:
        """End all that goes on for the page."""
        self._change_over(None)
        for task in self._tasks:
            task.cancel()
        self._leaving = asyncio.create_task(self._give_up())

    async def send(self, messages: Iterable[Message]) -> None:
        """Send messages and sound. Raises `WebSocketDisconnect` where the page has gone."""
        try:
            for message in messages:
                if isinstance(message, bytes):
                    await self._socket.send_bytes(message)
                else:
                    await self._socket.send_text(message.model_dump_json())
        except RuntimeError as gone:  # so the framework calls it once the end was announced
            raise WebSocketDisconnect from gone

    async def refuse(self, message: str) -> None:
        """Say what cannot be done."""
        await self.send([Problem(message=message, playing=self._play is not None)])

    async def _start(self, message: Play) -> None:
        state = await self._sessions.at_least(message.session_id, message.revision)
        await self._look_up(message)
        self._asked, self._log = message, message.log
        self._changes.forget()
        self._measure_where_needed(state)
        change = self._change(state)
        play = LivePlay(message, change, self._folder, sample_rate_hz=state.sample_rate_hz)
        await self.send(play.start())
        self._change_over(play)

    async def _listen(self, message: Listen) -> None:
        """Listen otherwise; what waits for a newer revision gives way to what comes meanwhile."""
        self._asked = message
        held = self._sessions.now(message.session_id)
        if held is not None and held.revision >= message.revision and self._is_known(message):
            await self._apply(held)
        elif self._renewing is None or self._renewing.done():
            self._renewing = self._begin(self._take_over(message.revision))

    async def _take_over(self, revision: int | None) -> None:
        """Wait (not for long) for a revision, then go on with whatever is asked by then; a slow database is late."""
        while (asked := self._asked) is not None:
            reading = asyncio.ensure_future(self._sessions.at_least(asked.session_id, revision))
            reading.add_done_callback(_taken_note_of)
            held = self._sessions.now(asked.session_id)
            await asyncio.wait([reading], timeout=None if held is None else PATIENCE_S)
            newest = self._asked or asked
            await self._look_up(newest)
            if (held := self._sessions.now(newest.session_id)) is not None:
                await self._apply(held)
            if not reading.done():
                await self._apply(await reading)
            reading.result()
            newest = self._asked or asked
            if newest is asked or (held is not None and held.revision >= newest.revision):
                break
            revision = newest.revision

    async def _apply(self, state: SessionState) -> None:
        asked = self._asked
        if asked is None or state.id != asked.session_id:
            return
        if asked.listening.blind not in (None, *self._pressed):  # it is being looked up
            return
        self._measure_where_needed(state)
        if self._play is not None:
            await self._changes.take(self._play, self._change(state))

    def _change(self, state: SessionState) -> Change:
        asked, listening = self._asked, self._listening()
        seq = asked.seq if isinstance(asked, Listen) else 0
        is_blind = listening.blind is not None
        watched = None if is_blind else listening.strip_id
        return Change(seq=seq, revision=state.revision, mix=self._mix(state), watch_id=watched, blind=is_blind)

    def _listening(self) -> Listening:
        """Return how is listened: of a blind check, what is behind what is pressed."""
        assert self._asked is not None
        asked = self._asked.listening
        if asked.blind is None:
            return asked
        own = {name: getattr(asked, name) for name in ("loop", "dim", "through", "blind")}
        return self._pressed[asked.blind].model_copy(update=own)

    def _mix(self, state: SessionState) -> Mix:
        assert self._asked is not None
        session: Session = state
        listening = self._listening()
        if self._draft is not None and self._draft.id == self._asked.listening.draft_id:
            with contextlib.suppress(MivloError):  # it does not fit any more: then nothing of it is heard
                session = apply_all(state, self._draft.intents)
        mix = heard_mix(session, listening, self._match)
        if listening.blind is not None and listening.matched and self._match is None and mix.sides is not None:
            # Before both are equally loud, the level would tell which is which.
            mix = mix.model_copy(update={"sides": mix.sides.model_copy(update=NOT_YET)})
        return mix

    def _is_known(self, asked: Play | Listen) -> bool:
        """Tell whether nothing has to be looked up before it can be heard."""
        draft_id, blind = asked.listening.draft_id, asked.listening.blind
        has_draft = draft_id is None or (self._draft is not None and self._draft.id == draft_id)
        return has_draft and (blind is None or blind in self._pressed)

    async def _look_up(self, asked: Play | Listen) -> None:
        """Look up what a way of listening only names: a draft, or what is behind what is pressed blind."""
        draft_id, blind = asked.listening.draft_id, asked.listening.blind
        if draft_id is not None and (self._draft is None or self._draft.id != draft_id):
            self._draft = await asyncio.to_thread(draft_of, asked.session_id, draft_id)
        if blind is not None and blind not in self._pressed:
            listening = await asyncio.to_thread(pressed_of, asked.session_id, blind)
            same = {one: held for one, held in self._pressed.items() if one.trial == blind.trial}
            self._pressed = {**same, blind: listening}

    def _measure_where_needed(self, state: SessionState) -> None:
        """Let what the level match goes by be measured, where it is not the same as before."""
        assert self._asked is not None
        listening = self._listening()
        subject = (state.id, *_subject_of(listening))
        if (state.revision, subject) == self._looked_at:  # a pointer moves: nothing that would be measured is another
            return
        self._looked_at = (state.revision, subject)
        if subject != self._subject:
            self._subject, self._match, self._question = subject, None, None
        question = match_question(state, listening, end_frame=state.end_frame())
        if question == self._question:
            return
        if self._measuring:  # what is not asked any more need not be measured
            self._begin(self._give_up(self._question, state.sample_rate_hz))
        self._question = question
        if question is not None and not self._measuring:
            self._measuring = True
            self._begin(self._measure(state.sample_rate_hz))
        else:
            self._begin(self._tell_match())

    async def _measure(self, sample_rate_hz: int) -> None:
        """Measure until what was measured is what is asked."""
        try:
            await self._tell_match()
            while self._question is not None:
                question, subject = self._question, self._subject
                session_id = self.session_id or ""

                def is_asked(question: MatchQuestion = question) -> bool:
                    return question is self._question

                try:
                    if self._match is None and self._may_be_rough():
                        rough = await asyncio.to_thread(
                            rough_match, question, session_id=session_id, sample_rate_hz=sample_rate_hz,
                            wanter=self._wanter, is_wanted=is_asked,
                        )  # fmt: skip
                        if rough is not None and subject == self._subject:
                            self._match = rough
                            await self._hear_match()
                    measured = await asyncio.to_thread(
                        level_match, question, session_id=session_id, sample_rate_hz=sample_rate_hz,
                        wanter=self._wanter, is_wanted=is_asked,
                    )  # fmt: skip
                except LookupError:  # given up, since something else was asked by then
                    continue
                if subject == self._subject:
                    self._match = measured
                if question == self._question:
                    break
        except SQLAlchemyError:  # asked again by the next change, or when the database is back
            self._question = self._looked_at = None
            raise
        finally:
            self._measuring = False
        await self._hear_match()

    def _may_be_rough(self) -> bool:
        """Tell whether two sides are compared in the open: then a switch is soon nearly as loud, and later exactly."""
        listening = self._asked.listening if self._asked is not None else None
        return listening is not None and listening.compared is not None and listening.blind is None

    async def _hear_match(self) -> None:
        """Tell the match, and hear both sides by it."""
        await self._tell_match()
        held = self._sessions.now(self.session_id or "")
        if held is not None:
            await self._apply(held)

    async def _give_up(self, question: MatchQuestion | None = None, sample_rate_hz: int = 0) -> None:
        with contextlib.suppress(SQLAlchemyError):
            await asyncio.to_thread(give_up, self._wanter, question, sample_rate_hz=sample_rate_hz)

    async def _tell_match(self) -> None:
        asked = self._asked
        seq = asked.seq if isinstance(asked, Listen) else 0
        match = None if asked is not None and asked.listening.blind is not None else self._match
        await self.send([Match(seq=seq, match=match, measuring=self._measuring)])

    async def _send_spectra(self, play: LivePlay) -> None:
        """Send the live spectrum when one is due."""
        due = play.spectra_due()
        if due is not None:
            track_id, before, after = due
            smoothing: Smoothing = "none" if self._asked is None else self._asked.listening.smoothing
            sides, rate_hz = (before, after), play.sample_rate_hz
            try:
                # Where its process has ended that waits for another one to be started: meanwhile sound goes on.
                measured = await asyncio.to_thread(submit, measured_levels, sides, rate_hz, smoothing)
                before_db, after_db = await asyncio.wrap_future(measured)
            except BrokenExecutor:  # it ended just now; the next spectrum is soon due
                return
            await self.send([Spectra(track_id=track_id, before_db=before_db, after_db=after_db)])

    def _change_over(self, play: LivePlay | None) -> None:
        """End what is rendered ahead for one play, and begin it for the next, in a thread that waits for no message."""
        self._changes.forget()
        if self._play is not None:
            self._play.finish()
        self._play = play
        if play is not None:
            threading.Thread(target=play.keep_ahead, name="ahead", daemon=True).start()

    def _begin(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = asyncio.create_task(self._guarded(work))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        task.add_done_callback(lambda _: work.close())  # cancelled before its first step, it was never begun
        return task

    async def _guarded(self, work: Coroutine[Any, Any, None]) -> None:
        """Do some work beside the messages; what goes wrong is told, and the page may have gone meanwhile."""
        with contextlib.suppress(WebSocketDisconnect):
            try:
                await work
            except (MivloError, OSError) as error:
                await self.refuse(str(error))
            except SQLAlchemyError:
                await self.refuse(NO_DATABASE)


def _taken_note_of(reading: "asyncio.Future[SessionState]") -> None:
    """Let nobody be told of what went wrong where the page has gone before it could matter."""
    if not reading.cancelled():
        reading.exception()


def _subject_of(listening: Listening) -> tuple[object, ...]:
    together, compared = listening.together, listening.compared
    if compared is not None:
        sides = compared.model_copy(update={"other_heard": False})
        return (listening.treatment, listening.strip_id, listening.alone, sides)
    if together is None:
        return (listening.treatment, listening.strip_id, listening.alone)
    return (together.compares, together.entry_id, together.heard_ids)
