"""The patterns that a material can begin from, on the command line."""

from __future__ import annotations

import json

from silent_loom.cli.common import Json, app, loaded


@app.command()
def patterns(as_json: Json = False) -> None:
    """List every pattern to begin from: 'silent-loom bake PATTERN --size N --out DIR' makes its maps."""
    from silent_loom.core.weave import registry
    from silent_loom.core.weave.rows.beginnings import beginnings

    loaded()
    if as_json:
        told = [
            {**b.model_dump(mode="json", include={"name", "title", "says", "family", "words", "size_mm", "step", "settings"})}
            | {"takes": list(registry.fields(b.step))}
            for b in beginnings().values()
        ]
        print(json.dumps(told, ensure_ascii=False))
        return
    family = ""
    for b in beginnings().values():
        if b.family != family:
            family = b.family
            print(f"{family}:")
        print(f"  {b.name}: {b.says} {b.size_mm[0]:g} × {b.size_mm[1]:g} mm.")
