"""Clashes between files, as they are mixed when all faders are at 0 dB."""

from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from mivlo.core.audiofile import ImportLimits, open_checked
from mivlo.core.ensemble.clashes import Clash, find_clashes
from mivlo.core.ensemble.erb_map import ErbMap, erb_map, with_hop
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear, sampled
from mivlo.core.errors import ParameterError

__all__ = ["clashes_of_files"]

WORKERS = 2


def clashes_of_files(files: Sequence[Path]) -> list[Clash]:
    """Return the clashes of tracks that start together, strongest first.

    Raises
    ------
    ParameterError: no file
    AudioFileError: what cannot be read, with its reason
    """
    if not files:
        raise ParameterError("no file was given: give two or more tracks that play together")
    with ProcessPoolExecutor(min(WORKERS, len(files))) as pool:
        maps = list(pool.map(_map_of_file, files))
    tracks = sampled([MixedTrack(with_hop(one, maps[0].hop_s)) for one in maps])
    return find_clashes(hear(tracks, full_scale_db=full_scale_db_spl(tracks)))


def _map_of_file(file: Path) -> ErbMap:
    info, source = open_checked(file, limits=ImportLimits(), name=str(file))
    return erb_map(source, start=0, end=info.n_frames, sample_rate_hz=info.sample_rate_hz)
