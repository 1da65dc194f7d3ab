"""Writes docs/openapi.json (the API and the monitor's messages) and docs/treatment.schema.json from the models.

    .venv/bin/python tools/export_schemas.py [--check]
"""

import json
import sys
from pathlib import Path
from typing import Any

from pydantic import BaseModel, TypeAdapter

from mivlo.core.treatment import Treatment
from mivlo.server.app import create_app
from mivlo.server.monitor import messages

DOCS = Path(__file__).parent.parent / "docs"


class MonitorMessages(BaseModel):
    """Everything said over the monitor's socket, gathered so that the page's types are generated too."""

    from_page: messages.FromPage
    from_monitor: (
        messages.Applied | messages.Meter | messages.Gains | messages.Blown | messages.Spectra | messages.Ended | messages.Problem
    )


def openapi() -> dict[str, Any]:
    """Return the API's document with the monitor's messages among its schemas."""
    document = create_app(web=None).openapi()
    schema = TypeAdapter(MonitorMessages).json_schema(ref_template="#/components/schemas/Monitor{model}")
    schemas = document["components"]["schemas"]
    for name, definition in schema.pop("$defs").items():
        schemas[f"Monitor{name}"] = definition
    schemas["MonitorMessages"] = schema
    return document


def treatment_schema() -> dict[str, Any]:
    """Return the treatment file's JSON Schema (2020-12)."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Treatment.model_json_schema()}


def main() -> int:
    """Write both documents, or tell (--check) whether they are as they would be written."""
    stale = []
    for name, document in (("openapi.json", openapi()), ("treatment.schema.json", treatment_schema())):
        text = json.dumps(document, indent=1, ensure_ascii=False) + "\n"
        path = DOCS / name
        if "--check" in sys.argv:
            if not path.exists() or path.read_text(encoding="utf-8") != text:
                stale.append(name)
        else:
            path.write_text(text, encoding="utf-8")
    if stale:
        print(f"out of date, run tools/export_schemas.py: {', '.join(stale)}", file=sys.stderr)
    return 1 if stale else 0


if __name__ == "__main__":
    sys.exit(main())
