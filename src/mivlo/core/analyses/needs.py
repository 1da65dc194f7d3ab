"""All that must have been computed before an analysis."""

from typing import Any

from mivlo.core.analyses.base import AnyAnalysis, Need
from mivlo.core.analyses.rendered import renderings_in
from mivlo.core.remembered import remembered

__all__ = ["needs_of"]


def needs_of(analysis: AnyAnalysis, params: Any) -> tuple[Need, ...]:
    """Return all that must have been computed before an analysis, each once. Raises nothing. Source: ours."""
    return _needs_of(params, analysis)


@remembered(512)
def _needs_of(params: Any, analysis: AnyAnalysis) -> tuple[Need, ...]:
    needs = [*renderings_in(params), *analysis.needs(params)]
    return tuple({need.key: need for need in needs}.values())
