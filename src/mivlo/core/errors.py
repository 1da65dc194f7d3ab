"""The error tree of Mivlo; every message says what was wrong, with what value, and what would be right.

MivloError
├── ParameterError     a figure out of its range
├── TreatmentError     a treatment that cannot be read
├── BundleError        a session in one file that cannot be opened or written
├── AudioFileError     a file that cannot be taken in or written
├── TooLargeError      more than can be taken in
├── ConflictError      an edit of what somebody else has changed since
└── NotFoundError      something that is not (or no longer) there
"""

__all__ = [
    "AudioFileError",
    "BundleError",
    "ConflictError",
    "MivloError",
    "NotFoundError",
    "ParameterError",
    "TooLargeError",
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


class BundleError(MivloError):
    """A session in one file that cannot be opened or written."""

    code = "bad-bundle"


class TooLargeError(MivloError):
    """A file of more bytes, or minutes, than can be taken in."""

    code = "too-large"


class ConflictError(MivloError):
    """An edit of what another page has changed or taken away since."""

    code = "conflict"


class NotFoundError(MivloError):
    """Something that is not, or no longer, there."""

    code = "not-found"
