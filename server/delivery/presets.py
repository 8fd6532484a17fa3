"""Presets of a workspace, and those that come with the application."""

from typing import Any

from leancurve.delivery.preset import Preset as Form
from leancurve.errors import BadInput
from library.models import Workspace

from delivery.handing import Named
from delivery.models import Preset

BUILT_IN: dict[int, Named] = {
    0: Named("BVH, a key on each frame", Form(format="bvh")),
    -1: Named("GLB, root on the floor", Form(format="glb", root="floor", body="figure")),
    -2: Named("GLB, fitted splines", Form(format="glb", within_deg=0.25, body="figure")),
    -7: Named("GLB, all clips in one file", Form(format="glb", body="figure", files="together")),
    -3: Named("USD", Form(format="usdc")),
    -4: Named("Clip JSON, curves kept", Form(format="json")),
    -5: Named("CSV of channels", Form(format="csv")),
    -6: Named("CSV of places", Form(format="csv-world")),
}


def presets_of(workspace: Workspace) -> dict[int, Named]:
    """All that may be chosen, by number: what was kept first, by name."""
    kept = {p.pk: Named(p.name, Form.model_validate(p.values)) for p in workspace.presets.all()}
    return {**kept, **BUILT_IN}


def keep_preset(workspace: Workspace, name: str, form: Form) -> Preset:
    """Keep a preset under a name, in place of one that has it."""
    if not name.strip():
        raise BadInput("name: expected one")
    if any(name == p.name for p in BUILT_IN.values()):
        raise BadInput(f"name: {name} comes with the application: choose another")
    values: dict[str, Any] = form.model_dump(mode="json")
    preset, _ = Preset.objects.update_or_create(
        workspace=workspace, name=name[:120], defaults={"values": values}
    )
    return preset
