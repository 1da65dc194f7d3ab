"""One page's play: turns its messages into a player of the core, sound and meters."""

import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from mivlo.core.engine.mix import Mix, reshapes
from mivlo.core.engine.player import Player
from mivlo.core.engine.revising import Made, Revising
from mivlo.core.engine.source import Source, open_source
from mivlo.core.errors import NotFoundError
from mivlo.core.k_weighting import power_to_lufs
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.units import Array
from mivlo.server.monitor.messages import (
    Applied,
    Ended,
    Gains,
    Held,
    Late,
    Meter,
    MoveGain,
    NonFinite,
    Play,
    pack_sound,
)  # fmt: skip
from mivlo.server.monitor.queue import QueueLength
from mivlo.server.monitor.reach import Reach

__all__ = ["Change", "LivePlay"]

CHUNK_FRAMES = 512
LONG_QUEUE_MS, LONG_CHUNK_FRAMES = 100.0, 2_048  # where a page holds that much, nothing is urgent: larger chunks
METER_S, SPECTRA_S, SPECTRA_LENGTH_S = 0.05, 0.12, 0.35
LOAD_SMOOTHING, HEAVY_LOAD = 0.005, 0.35
HEAVY_AHEAD = 0.2  # of the time, for working ahead: rendering when it is needed takes twice that and more
QUEUE_MS_OF_LOAD, LONGEST_HEAVY_QUEUE_MS = 400.0, 160.0
PREPARED_QUEUE_MS = 100.0  # what a prepared change still takes: 20 to 60 ms, where a filter lasts many seconds
AHEAD_S = 1.2  # how far what is not being edited is rendered ahead, where there is time for it
AHEAD_IN_CHANGES_S, CHANGING_S = 0.35, 0.6  # less while changes follow one another: each makes what is ahead void
FIRST_AHEAD_S = 0.7  # of a heavy session, before it begins to sound
IDLE_S = 0.01
AT_MOST_HELD_UP_S = 0.05
PIECES_AT_ONCE = 2  # of sound, for one message: a change that comes meanwhile does not wait for a whole queue
SETTLED_S = 0.5  # after it was played, whether an exchange was late is known
TAIL_S = 0.5  # after the last track's end, before play stops by itself
Message = bytes | BaseModel
Array32 = NDArray[np.float32]  # half as much to hand to the process that measures


@dataclass(frozen=True, slots=True)
class Change:
    """Another mix to go on with: by which listening, on which revision of the session, and whose moves are watched."""

    seq: int
    revision: int
    mix: Mix
    watch_id: str | None = None
    blind: bool = False  # made and told as if it were another mix even where it is not, and of what is heard no figures


class LivePlay:
    """An epoch of play: from a start (or a seek) to the next, or to a stop."""

    def __init__(
        self,
        play: Play,
        first: Change,
        audio_folder: Path,
        *,
        sample_rate_hz: int,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._play = play
        self._clock = clock
        self._rate = sample_rate_hz
        self._folder = audio_folder
        self._sources: dict[str, Source] = {}
        self._player = Player(first.mix, self._open, start_frame=play.at_frame, sample_rate_hz=self._rate)
        self._heavy = (
            False  # once heavy, heavy until the next play: while it is worked ahead, rendering itself takes no time
        )
        self._queue = QueueLength(play.queue_ms, sample_rate_hz=self._rate)
        self._sent = self._played = self._metered = 0
        self._load = 0.0  # part of the time that rendering takes
        self._first, self._change = first, first
        self._revising = Revising(self._player, first.mix)
        self._player.keep_from(0)
        self._reach = Reach()
        self._refusals = self._exchanges = 0  # that were refused, and made, by what the page says
        self._waiting: Change | None = None
        self._reported_s = 0.0
        self._changed_s = -CHANGING_S
        self._recent: deque[tuple[Array, Array]] = deque()
        self._watch(first.watch_id)
        self._next_meter_s = self._next_spectra_s = 0.0
        self._ended = False
        self._finished = threading.Event()
        self._may_work_ahead = threading.Event()  # not while somebody waits for a change
        self._may_work_ahead.set()

    @property
    def sample_rate_hz(self) -> int:
        """Return the session's rate."""
        return self._rate

    def start(self) -> Iterator[Message]:
        """Yield the first queue of sound."""
        yield self._applied(self._first, Made(0, self._first.mix))
        load = self._probed_load()
        if load > HEAVY_AHEAD:
            self._become_heavy(load)
        else:
            self._player.stop_working_ahead()  # the probe did
        while self._heavy and self._player.work_ahead(round(FIRST_AHEAD_S * self._rate)):
            pass
        yield from self._fill()

    def _probed_load(self) -> float:
        """Return about which part of the time working ahead would take: by the first block of one track."""
        started_s = self._clock()
        n_frames = self._player.work_ahead(1)
        return (self._clock() - started_s) * self._player.n_tracks * self._rate / n_frames if n_frames else 0.0

    def apply(self, change: Change) -> Iterator[Message]:
        """Go on with another mix from where the page has not come to; one that is the same is only noted."""
        self._waiting = None
        is_other = change.blind or change.mix != self._revising.mix
        if is_other and self._revising.n_open and reshapes(self._revising.mix, change.mix):
            self._waiting = change  # until it is known that nothing before it is to be undone
            return
        self._change = change
        self._watch(change.watch_id)
        if not is_other:
            yield self._applied(change, Made(self._player.frame, change.mix), logged=False)
            return
        self._may_work_ahead.clear()
        self._changed_s = self._clock()
        try:
            yield from self._exchange(change)
        finally:
            self._may_work_ahead.set()

    def _exchange(self, change: Change) -> Iterator[Message]:
        now = self._played + (self._clock() - self._reported_s) * self._rate  # where the page should be
        from_frame = min(round(now + self._frames(self._reach.ms)), self._sent)
        made = self._revising.change(change.mix, from_frame=from_frame)
        if self._player.rendered_frames < self._sent:
            self._reach.begin(self._ms(self._player.rendered_frames - now))
        self._resend_from(self._player.rendered_frames)
        yield self._applied(change, made)
        yield from self._fill(PIECES_AT_ONCE)

    def _frames(self, ms: float) -> float:
        return ms / 1e3 * self._rate

    def _ms(self, n_frames: float) -> float:
        return 1e3 * n_frames / self._rate

    def _resend_from(self, frame: int) -> None:
        """Let what was sent from a frame on be sent anew."""
        again = self._sent - frame
        self._ended = self._ended and again <= 0
        self._sent = frame
        while again > 0 and self._recent:
            again -= self._recent.pop()[0].shape[1]

    def late(self, message: Late) -> Iterator[Message]:
        """Go on behind what the page holds: what was to be exchanged came too late."""
        if message.epoch != self._play.epoch or message.refusals != self._refusals + 1:
            return
        self._refusals = message.refusals
        held = max(min(message.held_frames, self._player.rendered_frames + self._rate), self._played)
        refused = message.frame + CONTROL_FRAMES  # the guard holds a step back
        n_in_time = self._revising.n_open_before(refused)
        self._reach.late(n_in_time, self._ms(message.played_frames - message.frame))
        self._exchanges += n_in_time
        for made in self._revising.refuse(refused, held_until=held):
            yield self._applied(self._change, made)
        self._resend_from(self._player.rendered_frames)
        yield from self._fill()
        yield from self._apply_waiting()

    def _apply_waiting(self) -> Iterator[Message]:
        if self._waiting is not None and not self._revising.n_open:
            yield from self.apply(self._waiting)

    def _applied(self, change: Change, made: Made, *, logged: bool = True) -> Applied:
        return Applied(
            epoch=self._play.epoch,
            seq=change.seq,
            revision=change.revision,
            frame=made.frame,
            mix=made.mix if self._play.log and logged and not change.blind else None,
        )

    def takes_long(self, change: Change) -> bool:
        """Tell whether the queue might not outlast a change, so that it is to be prepared first."""
        return self._player.takes_long(change.mix)

    def prepare(self, change: Change) -> None:
        """Compute what a change will need, from a thread of its own; meanwhile the queue grows to outlast the rest of
        it."""
        self._queue.lengthen(PREPARED_QUEUE_MS)
        self._player.prepare(change.mix)

    def held(self, message: Held) -> Iterator[Message]:
        """Render as much as the page has played."""
        if message.epoch != self._play.epoch:
            return
        self._played = min(message.played_frames, self._sent)  # nobody has played what was never sent
        now_s = self._reported_s = self._clock()
        settled = self._played - round(SETTLED_S * self._rate)
        self._player.keep_from(settled)
        if message.exchanges > self._exchanges:
            n_in_time = message.exchanges - self._exchanges
            self._revising.accept(n_in_time)
            self._reach.in_time(n_in_time, self._ms(message.spare_frames))
            self._exchanges = message.exchanges
        self._revising.forget_before(settled)
        self._queue.report(held_frames=self._sent - self._played, underruns=message.underruns, now_s=now_s)
        yield from self._fill(PIECES_AT_ONCE)
        yield from self._apply_waiting()
        if now_s >= self._next_meter_s and self._sent > self._metered:
            self._next_meter_s, self._metered = now_s + METER_S, self._sent
            yield self._meter()
            yield from self._gains()
            for track_id in {one.strip_id for one in self._player.non_finite()}:
                yield NonFinite(track_id=track_id)

    def spectra_due(self) -> tuple[str, Array32, Array32] | None:
        """Return the watched track's last stretch, untreated and treated, when it is time to show it."""
        now_s = self._clock()
        track_id = self._player.tapped_track_id
        if track_id is None or now_s < self._next_spectra_s or not self._recent:
            return None
        self._next_spectra_s = now_s + SPECTRA_S
        before, after = (np.concatenate(parts, axis=1, dtype=np.float32) for parts in zip(*self._recent, strict=True))
        return track_id, before, after

    def _fill(self, most_pieces: int | None = None) -> Iterator[Message]:
        """Yield sound until the queue is as long as it should be; no more than so many pieces, if any, at once."""
        n_pieces = 0
        while not self._ended and self._sent - self._played < self._queue.aim_frames and n_pieces != most_pieces:
            n_pieces += 1
            position = self._player.position
            started_s = self._clock()
            n_frames = LONG_CHUNK_FRAMES if self._sent - self._played > self._frames(LONG_QUEUE_MS) else CHUNK_FRAMES
            sound = self._player.render(n_frames)
            part = (self._clock() - started_s) * self._rate / n_frames
            self._load += LOAD_SMOOTHING * n_frames / CHUNK_FRAMES * (part - self._load)
            if self._load > HEAVY_LOAD:
                self._become_heavy(self._load)
            yield pack_sound(
                sound,
                epoch=self._play.epoch,
                stream_frame=self._sent,
                position=position,
                seq=self._change.seq,
                refusals=self._refusals,
            )
            self._sent += n_frames
            if self._revising.mix.loop() is None and position > self._song_end() + TAIL_S * self._rate:
                self._ended = True
                yield Ended(epoch=self._play.epoch)

    def _become_heavy(self, load: float) -> None:
        """Render ahead from now on, with a queue that outlasts the taking back of what an edit makes void."""
        self._heavy = True
        self._queue.lengthen(min(QUEUE_MS_OF_LOAD * load, LONGEST_HEAVY_QUEUE_MS))

    def _song_end(self) -> int:
        return max((t.start_frame + self._open(t.audio_id).n_frames for t in self._revising.mix.tracks), default=0)

    def _meter(self) -> Meter:
        queue = {"queue_ms": round(self._queue.aim_ms, 1), "base_queue_ms": self._queue.base_ms}
        if self._change.blind:
            return Meter(peak_db=None, momentary_lufs=None, guard_db=0.0, correlation=None, **queue)
        guard = self._player.guard
        peak, guard.peak = guard.peak, 0.0
        power = guard.momentary_power()
        return Meter(
            peak_db=round(20 * float(np.log10(peak)), 1) if peak > 1e-6 else None,
            momentary_lufs=round(float(power_to_lufs(np.array(power))), 1) if power > 1e-9 else None,
            guard_db=round(guard.gain_db, 1),
            correlation=None if self._player.correlation is None else round(self._player.correlation, 2),
            **queue,
        )

    def keep_ahead(self) -> None:
        """Render what is not being edited ahead until `finish`, where the session is heavy; for a thread of its own."""
        while not self._finished.is_set():
            self._may_work_ahead.wait(AT_MOST_HELD_UP_S)
            if not (self._heavy and not self._ended and self._player.work_ahead(self._ahead_frames())):
                self._finished.wait(IDLE_S)

    def _ahead_frames(self) -> int:
        is_changing = self._clock() - self._changed_s < CHANGING_S
        return round((AHEAD_IN_CHANGES_S if is_changing else AHEAD_S) * self._rate)

    def finish(self) -> None:
        """Let nothing be rendered ahead any more."""
        self._finished.set()

    def _gains(self) -> Iterator[Message]:
        watched = self._player.tapped_track_id
        if watched is None:
            return
        moves = [
            MoveGain(
                entry_id=now.key,
                level_db=None if now.level_db is None else round(now.level_db, 1),
                gain_db=round(float(now.gains_db.min() if now.bands_hz.size else now.gains_db[0]), 2),
                bands=[
                    (round(float(hz), 1), round(float(db), 1))
                    for hz, db in zip(now.bands_hz, now.gains_db, strict=False)
                ],
            )
            for now in self._player.move_gains(watched)
        ]
        if moves:
            yield Gains(track_id=watched, moves=moves)

    def _watch(self, track_id: str | None) -> None:
        if track_id != self._player.tapped_track_id:
            self._recent.clear()
        self._player.watch(track_id)
        self._player.tap = None if track_id is None else self._keep

    def _keep(self, before: Array, after: Array) -> None:
        self._recent.append((before, after.copy()))
        have = sum(part.shape[1] for part, _ in self._recent)
        while have - self._recent[0][0].shape[1] > SPECTRA_LENGTH_S * self._rate:
            have -= self._recent.popleft()[0].shape[1]

    def _open(self, audio_id: str) -> Source:
        if audio_id not in self._sources:
            path = self._folder / audio_id / "session.npy"
            if not (len(audio_id) == 32 and audio_id.isalnum() and path.is_file()):
                raise NotFoundError(f"audio {audio_id!r:.80} is not there")
            self._sources[audio_id] = open_source(path)
        return self._sources[audio_id]
