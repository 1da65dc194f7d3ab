"""The error tree of Mivlo; every message says what was wrong, with what value, and what would be right.

MivloError
├── ParameterError     a figure out of its range
├── TreatmentError     a treatment that cannot be read
├── AudioFileError     a file that cannot be taken in or written
├── StaleStateError    an edit made on a state that has moved on
└── NotFoundError      something that is not (or no longer) there
"""

__all__ = [
    "AudioFileError",
    "MivloError",
    "NotFoundError",
    "ParameterError",
    "StaleStateError",
    "TreatmentError",
]


class MivloError(Exception):
    """Base of all errors that a user can cause and understand."""

    code = "mivlo-error"


class ParameterError(MivloError):
    """A figure out of its range."""

    code = "bad-parameter"


class TreatmentError(MivloError):
    """A treatment that cannot be read, or asks for what cannot be done."""

    code = "bad-treatment"


class AudioFileError(MivloError):
    """An audio file that cannot be taken in or written."""

    code = "bad-audio-file"


class StaleStateError(MivloError):
    """An edit made on a state that another page has changed since."""

    code = "stale-state"


class NotFoundError(MivloError):
    """Something that is not, or no longer, there."""

    code = "not-found"
