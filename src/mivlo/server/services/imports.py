"""Taking files in: checked, kept as they came, converted to the session's rate."""

import shutil
from pathlib import Path

from mivlo.core.audiofile import AudioFileInfo, ImportLimits, inspect_audio, resample_to_store, sha256_of
from mivlo.core.errors import AudioFileError, NotFoundError
from mivlo.server.db.tables import AudioRow, new_id
from mivlo.server.services.pool import in_pool
from mivlo.server.services.state import Audio
from mivlo.server.settings import settings

__all__ = ["ORIGINAL", "STORED", "import_audio", "stored_path"]

ORIGINAL, STORED = "original", "session.npy"


def stored_path(audio_id: str) -> Path:
    """Return where an audio's samples at the session's rate are; raises NotFoundError for what is not an id of ours."""
    if not (len(audio_id) == 32 and audio_id.isalnum()):
        raise NotFoundError(f"audio {audio_id!r:.80} is not an id")
    path = settings().audio_folder(audio_id) / STORED
    if not path.is_file():
        raise NotFoundError(f"audio {audio_id} is not there")
    return path


def import_audio(session_id: str, rate_hz: int, incoming: Path, *, name: str) -> AudioRow:
    """Take one file in; `incoming` is moved away.

    Raises
    ------
    AudioFileError: what cannot be taken in, with its reason
    """
    audio_id = new_id()
    folder = settings().audio_folder(audio_id)
    try:
        info, n_frames, sha256 = in_pool(_take_in, incoming, folder, settings().import_limits, rate_hz, name)
    except OSError as error:
        raise AudioFileError(f"{name}: cannot be stored ({error.strerror or error})") from error
    facts = Audio(
        id=audio_id,
        original_name=name[-255:],
        format=info.format,
        subtype=info.subtype,
        original_rate_hz=info.sample_rate_hz,
        original_frames=info.n_frames,
        n_channels=info.n_channels,
        n_frames=n_frames,
    )
    return AudioRow(id=audio_id, session_id=session_id, sha256=sha256, facts=facts.model_dump(mode="json"))


def _take_in(
    incoming: Path, folder: Path, limits: ImportLimits, rate_hz: int, name: str
) -> tuple[AudioFileInfo, int, str]:
    """Check, convert and keep one file; leaves nothing behind where it cannot (runs in an analysis process)."""
    info = inspect_audio(incoming, limits=limits, name=name)
    folder.mkdir(parents=True)
    try:
        n_frames = resample_to_store(incoming, folder / STORED, info=info, rate_hz=rate_hz, name=name)
        sha256 = sha256_of(incoming)
        shutil.move(incoming, folder / ORIGINAL)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    return info, n_frames, sha256
