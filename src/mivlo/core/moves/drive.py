"""Drive: the soft clipper at the output."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.moves.base import BaseMove, Family, Keepers, Start
from mivlo.core.moves.dynamic import level_db
from mivlo.core.processors.drive import DriveFigures, DriveSpec

__all__ = ["Drive"]


class Drive(BaseMove):
    """Louder against a soft ceiling; at 0 dB it does nothing."""

    label: ClassVar[str] = "Drive"
    summary: ClassVar[str] = "Louder against a soft ceiling: denser, with overtones of its own."
    family: ClassVar[Family] = "give-back"
    adds_only: ClassVar[bool] = True
    most_share: ClassVar[float] = 1.0
    starts: ClassVar[tuple[Start, ...]] = (
        Start("rounded", "only the highest peaks", {"drive_db": 3.0, "ceiling_dbfs": -1.0}),
        Start("dense", "audibly thicker", {"drive_db": 9.0, "ceiling_dbfs": -3.0}),
    )

    kind: Literal["drive"] = "drive"
    drive_db: float = level_db("Drive", 0.0, 24.0, default=6.0)
    ceiling_dbfs: float = Field(default=-1.0, ge=-12.0, le=0.0, title="Ceiling", json_schema_extra={"unit": "dBFS"})

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> DriveSpec:  # fmt: skip
        return DriveSpec(
            key,
            DriveFigures(self.drive_db, self.ceiling_dbfs, on, self.channel, min(share, self.most_share)),
            sample_rate_hz,
        )
