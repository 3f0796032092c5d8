"""The JSON schema of manifests, from their declaration: run with `python -m tools.manifest_schema`."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from silent_loom.core.delivery.package.manifest import schema

OUT = Path(__file__).parents[1] / "docs" / "manifest.schema.json"


def main() -> int:
    OUT.write_text(json.dumps(schema(), indent=2, ensure_ascii=False) + "\n", "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
