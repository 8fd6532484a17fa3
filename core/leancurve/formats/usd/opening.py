"""A USD file's bytes as a stage that is made of this file alone, looked at before it is composed.

Nothing a file says is believed: what reaches outside of it is refused by name, and what would be
made of it is counted first.
"""

from __future__ import annotations

import re
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

from pxr import Sdf, Tf, Usd

from leancurve.errors import BadInput, short
from leancurve.formats.archive import opened
from leancurve.formats.nesting import weighed

CRATE, TEXT, PACKAGE = b"PXR-USDC", b"#usda", b"PK\x03\x04"
DEEPEST = 100
"""Brackets within brackets of a text file, and prims within prims: real files have under thirty."""
MOST_SIGNS = 30_000_000
"""Brackets and commas of a text file: 65 joints on 3,500 frames have three million."""
MOST_PRIMS = 50_000
MOST_ENTRIES, MOST_BYTES = 1_000, 512 * 2**20
"""Files in a package, and their bytes together."""


def open_stage(data: bytes) -> Usd.Stage:
    """The stage of a ``.usda``, ``.usdc``, ``.usd`` or ``.usdz`` file, told by its first bytes.

    :class:`BadInput` says what is wrong with it.
    """
    if data.startswith(PACKAGE):
        data = _first_layer(data)
    if data.startswith(TEXT):
        _require_shallow(data)
        ending = ".usda"
    elif data.startswith(CRATE):
        ending = ".usdc"
    else:
        raise BadInput("expected USD, as text or as a crate; its first bytes are neither's")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"take{ending}")
        path.write_bytes(data)
        try:
            layer = Sdf.Layer.OpenAsAnonymous(str(path))
        except Tf.ErrorException as trouble:
            raise BadInput(f"not valid USD{_reason(trouble)}") from None
        if layer is None:
            raise BadInput("not valid USD")
        _require_own(layer)
        _require_few(layer)
        try:
            return Usd.Stage.Open(layer, Usd.Stage.LoadAll)
        except (Tf.ErrorException, RuntimeError):
            raise BadInput("its parts do not fit together") from None


def _reason(trouble: BaseException) -> str:
    """What USD's parser found, and on which line, where it says so."""
    try:
        told = str(trouble)
    except Exception:  # its own texts may hold bytes that are no text
        return ""
    found = re.search(r"take\.usda:(\d+):\d+: ([^'\n]*?) at ", told)
    return f": line {found.group(1)}, {short(found.group(2), 60)}" if found else ""


def _first_layer(data: bytes) -> bytes:
    """The layer a package begins with: its files are stored as they are (USDZ specification)."""
    with opened(data, "the package is damaged") as package:
        entries = package.infolist()
        if len(entries) > MOST_ENTRIES:
            raise BadInput(f"the package holds {len(entries):,} files; at most {MOST_ENTRIES}")
        if not entries:
            raise BadInput("the package is empty")
        if any(e.compress_type != zipfile.ZIP_STORED for e in entries):
            raise BadInput("the package's files are compressed; USDZ stores them as they are")
        if sum(e.file_size for e in entries) > min(MOST_BYTES, len(data)):
            raise BadInput("the package says that it holds more than there is")
        if not entries[0].filename.lower().endswith((".usda", ".usdc", ".usd")):
            name = short(entries[0].filename)
            raise BadInput(f"the package begins with {name}, not with a USD layer")
        return package.read(entries[0])


QUOTED = re.compile(
    rb'"""(?:[^\\]|\\.)*?"""|\'\'\'(?:[^\\]|\\.)*?\'\'\'|"(?:[^"\\\n]|\\.)*"|\'(?:[^\'\\\n]|\\.)*\''
    rb"|@[^@\n]*@|#[^\n]*",
    re.S,
)


def _require_shallow(text: bytes) -> None:
    signs, deepest = weighed(text, QUOTED, b"[](){}")
    if signs > MOST_SIGNS:
        raise BadInput("it holds more than thirty million values")
    if deepest > DEEPEST:
        raise BadInput(f"it is nested more than {DEEPEST} deep")


def _require_own(layer: Sdf.Layer) -> None:
    """Nothing of it lies in another file."""
    outside = [asset for asset in layer.GetCompositionAssetDependencies() if asset]
    if outside:
        raise BadInput(f"it refers to {short(outside[0])}, outside of what came with it")
    for spec in _prims(layer):
        if spec.HasInfo("clips"):
            raise BadInput(f"{short(spec.path.pathString)} takes its values from other files")


def _prims(layer: Sdf.Layer) -> Iterator[Sdf.PrimSpec]:
    """Every prim of a layer, those of variants as well; at most so many."""
    left = list(layer.rootPrims)
    count = 0
    while left:
        spec = left.pop()
        count += 1
        if count > MOST_PRIMS:
            raise BadInput(f"it holds more than {MOST_PRIMS:,} prims")
        if spec.path.pathElementCount > DEEPEST:
            raise BadInput(f"its prims are nested more than {DEEPEST} deep")
        yield spec
        left.extend(_below(spec))


def _below(spec: Sdf.PrimSpec) -> list[Sdf.PrimSpec]:
    """What a prim holds: its children, and what its variants may be."""
    sets = spec.variantSets.values()
    return [*spec.nameChildren, *(v.primSpec for s in sets for v in s.variants.values())]


def _require_few(layer: Sdf.Layer) -> None:
    """Few prims once all that refers to another place in the file stands there again."""
    heavy: dict[Sdf.Path, int] = {}
    below = {
        spec.path: [*(part.path for part in _below(spec)), *_inner(layer, spec)]
        for spec in _prims(layer)
    }
    # Without recursion: what all the places below weigh is known first.
    opened: set[Sdf.Path] = set()
    left = [spec.path for spec in layer.rootPrims]
    while left:
        path = left[-1]
        if path in heavy or path not in below:
            left.pop()
        elif path in opened:
            heavy[path] = 1 + sum(heavy.get(p, 0) for p in below[path])
            if heavy[path] > MOST_PRIMS:
                raise BadInput(f"its references make more than {MOST_PRIMS:,} prims")
            left.pop()
        else:
            opened.add(path)
            fresh = [p for p in below[path] if p not in heavy]
            if any(p in opened for p in fresh):
                raise BadInput(f"{short(path.pathString)} refers to itself")
            left += fresh
    if sum(heavy[spec.path] for spec in layer.rootPrims) > MOST_PRIMS:
        raise BadInput(f"its references make more than {MOST_PRIMS:,} prims")


def _inner(layer: Sdf.Layer, spec: Sdf.PrimSpec) -> list[Sdf.Path]:
    """The places in its own file that a prim takes over."""
    start = layer.rootPrims[layer.defaultPrim].path if layer.HasDefaultPrim() and (
        layer.defaultPrim in layer.rootPrims
    ) else Sdf.Path.emptyPath  # fmt: skip
    out: list[Sdf.Path] = []
    for arcs in (spec.referenceList, spec.payloadList):
        out += [arc.primPath or start for arc in arcs.GetAddedOrExplicitItems()]
    for arcs in (spec.inheritPathList, spec.specializesList):
        out += list(arcs.GetAddedOrExplicitItems())
    return [path for path in out if path]
