"""The validators of open formats, as their keepers give them out."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

VENDOR = Path(__file__).parents[2] / "tools" / "vendor"
_SCRIPT = (
    "const v=require('gltf-validator'),fs=require('fs'),path=require('path');const f=process.argv[1];"
    "v.validateBytes(new Uint8Array(fs.readFileSync(f)),{uri:path.basename(f),externalResourceFunction:(u)=>Promise.resolve("
    "new Uint8Array(fs.readFileSync(path.join(path.dirname(f),decodeURIComponent(u)))))})"
    ".then(r=>console.log(JSON.stringify(r.issues)))"
)


def gltf_messages(path: Path) -> list[str]:
    """Errors and warnings of the Khronos glTF validator."""
    if not (VENDOR / "node_modules" / "gltf-validator").is_dir():
        pytest.fail("run 'make browser' first: the validator is one of the packages it brings")
    done = subprocess.run(["node", "-e", _SCRIPT, str(path)], cwd=VENDOR, capture_output=True, text=True, check=True)
    issues = json.loads(done.stdout)
    return [f"{m['code']}: {m['message']} at {m.get('pointer')}" for m in issues["messages"] if m["severity"] <= 1]


def materialx_messages(path: Path) -> list[str]:
    """What MaterialX itself finds wrong, with its standard library and its own reading of the file."""
    import MaterialX as mx

    document = mx.createDocument()
    mx.readFromXmlFile(document, str(path))
    library = mx.createDocument()
    mx.loadLibraries(mx.getDefaultDataLibraryFolders(), mx.getDefaultDataSearchPath(), library)
    document.setDataLibrary(library)
    valid, words = document.validate()
    found = [] if valid else [words]
    for node in [n for g in document.getNodeGraphs() for n in g.getNodes()] + document.getNodes():
        if node.getNodeDef() is None:
            found.append(f"{node.getName()}: no definition of {node.getCategory()} fits its inputs")
    for element in document.traverseTree():
        if element.isA(mx.Input) and element.getType() == "filename":
            named = path.parent / element.getValueString()
            if not named.is_file():
                found.append(f"{named.name} is not there")
    return found


def usd_messages(path: Path) -> list[str]:
    """Errors and warnings of every validator of UsdValidation."""
    from pxr import Usd, UsdValidation

    registry = UsdValidation.ValidationRegistry()
    stage = Usd.Stage.Open(str(path))
    errors = UsdValidation.ValidationContext(registry.GetOrLoadAllValidators()).Validate(stage)
    return [f"{e.GetName()}: {e.GetMessage()}" for e in errors]
