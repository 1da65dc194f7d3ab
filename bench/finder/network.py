"""The network that is fitted, in PyTorch: the same sums as `mivlo.core.finder.network`, with gradients."""

import torch
from torch import Tensor, nn

from mivlo.core.finder.network import LAYERS, OUTPUTS, WIDTH

__all__ = ["TapNetwork"]


class TapNetwork(nn.Module):
    """Layers of weighted taps along the axis of bands; each adds to what goes in."""

    def __init__(self, n_cues: int, width: int = WIDTH) -> None:
        super().__init__()
        self.first = nn.Conv1d(n_cues, width, 1)
        self.layers = nn.ModuleList(nn.Linear(width * len(taps), width) for taps in LAYERS)
        self.last = nn.Conv1d(width, len(OUTPUTS), 1)
        self.dropout = nn.Dropout1d(0.05)

    def forward(self, x: Tensor) -> Tensor:
        """Return (files, outputs, bands) log odds of (files, cues, bands) scaled cues."""
        h = torch.relu(self.first(x))
        for taps, layer in zip(LAYERS, self.layers, strict=True):
            seen = torch.cat([shifted(h, tap) for tap in taps], dim=1)
            h = h + torch.relu(layer(seen.transpose(1, 2)).transpose(1, 2))
            h = self.dropout(h)
        log_odds: Tensor = self.last(h)
        return log_odds


def shifted(h: Tensor, tap: int) -> Tensor:
    """Return what stands `tap` bands higher, zero beyond the ends."""
    if tap >= 0:
        return nn.functional.pad(h[..., tap:], (0, tap))
    return nn.functional.pad(h[..., :tap], (-tap, 0))
