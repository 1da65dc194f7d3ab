"""What verbs are told: files, stretches of them, and roles."""

from pathlib import Path
from typing import TYPE_CHECKING

from mivlo.core.errors import ParameterError, TreatmentError

if TYPE_CHECKING:  # loaded where it is needed: the audio libraries would cost every verb its quick start
    from mivlo.core.audiofile import AudioFileInfo, FileSource
    from mivlo.core.roles import Role

__all__ = ["opened", "role_of", "roles_of", "stretch_of"]


def opened(file: Path) -> "tuple[AudioFileInfo, FileSource]":
    """Return what a file is, and its samples as they are read; raises TreatmentError, AudioFileError."""
    from mivlo.core.audiofile import ImportLimits, open_checked

    if not file.is_file():
        raise TreatmentError(f"{file}: no such file")
    return open_checked(file, limits=ImportLimits(), name=str(file))


def roles_of(files: list[Path], roles: list[str]) -> "list[Role | None]":
    """Return the role of each file; raises ParameterError, TreatmentError."""
    if len(roles) > len(files):
        raise ParameterError(
            f"--role is given {len(roles)} times for {len(files)} files: give it once for each file at most"
        )
    missing = next((file for file in files if not file.is_file()), None)
    if missing is not None:
        raise TreatmentError(f"{missing}: no such file")
    return [role_of(text) for text in roles] + [None] * (len(files) - len(roles))


def stretch_of(info: "AudioFileInfo", from_s: float, to_s: float | None) -> tuple[int, int]:
    """Return the frames of a stretch of a file, which must lie within it."""
    length_s = info.n_frames / info.sample_rate_hz
    until_s = length_s if to_s is None else to_s
    if not 0.0 <= from_s < until_s or from_s >= length_s:
        span = f"0 to {length_s:g} s"
        raise ParameterError(f"--from {from_s:g} --to {until_s:g}: must lie within the file, {span}, and not be empty")
    return round(from_s * info.sample_rate_hz), round(until_s * info.sample_rate_hz)


def role_of(text: str) -> "Role | None":
    from mivlo.core.roles import ROLES

    if not text:
        return None
    for role in ROLES:
        if role == text:
            return role
    raise ParameterError(f"--role {text!r} must be one of: {', '.join(ROLES)}")
