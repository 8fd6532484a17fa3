"""Partners: figures of other clips that stand in this one's scene."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.document.clip import Clip
from leancurve.document.partner import Partner
from leancurve.errors import BadInput
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    digests_of,
    number,
    silent,
)

Three = tuple[float, float, float]


class PartnerEdit(Params):
    """One change of a partner: ``add`` puts one into the scene, ``set`` changes it, ``remove``
    takes it out. What is absent stays as it is."""

    do: Literal["add", "set", "remove"]
    name: str = Field(min_length=1, max_length=60)
    new_name: str | None = Field(None, min_length=1, max_length=60)
    other: int | None = Field(None, ge=0, description="which of the clips given it is of")
    later: int | None = number(
        None, "frames", "how much later than the clip it begins", ge=-1_000_000, le=1_000_000
    )
    moved: Three | None = Field(
        None, description="millimetres along the clip's axes that it is moved"
    )
    turned: float | None = Field(
        None, ge=-36000, le=36000,
        description="degrees that it is turned about the up axis before it is moved",
    )  # fmt: skip
    muted: bool | None = None


class EditPartnersParams(Params):
    edits: tuple[PartnerEdit, ...] = Field(min_length=1)


class EditPartners(Operation[EditPartnersParams]):
    """Figures of other clips beside this one: ``{"do": "add", "name": "Wren", "other": 0, "later":
    12}`` lets one stand in the scene as it is in a revision of its clip, and keeps it so.

    The clip's own motion stays as it is. Up to three are drawn, and delivered where that is asked
    for; a prop may follow their joints, and plants hold that.
    """

    name = "edit_partners"
    title = "Edit partners"
    step = "plant"
    part = "partners"
    scoped = False
    inputs: ClassVar[Mapping[str, Input]] = {
        "figures": Input("digest", "choose the clip of the partner", optional=True)
    }
    Params: ClassVar[type[EditPartnersParams]] = EditPartnersParams

    def needs(self, params: EditPartnersParams) -> frozenset[str]:
        named = any(edit.other is not None for edit in params.edits)
        return frozenset({"figures"} if named else ())

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: EditPartnersParams,
        progress: Progress = silent,
    ) -> Patch:
        digests = digests_of(inputs.get("figures"))
        partners = {p.name: p for p in clip.partners}
        unplaced: list[dict[str, Any]] = []
        for edit in params.edits:
            if edit.do == "add":
                if edit.name in partners:
                    raise BadInput(f"a partner is named {edit.name!r} already")
                if edit.other is None:
                    raise BadInput(f"{edit.name}: expected which of the clips given it is of")
                partners[edit.name] = _set(Partner(edit.name, ""), edit, digests)
            elif edit.name not in partners:
                unplaced.append({"name": edit.name, "frame": edit.later or 0})
            elif edit.do == "remove":
                del partners[edit.name]
            else:
                new = _set(partners.pop(edit.name), edit, digests)
                if new.name in partners:
                    raise BadInput(f"a partner is named {new.name!r} already")
                partners[new.name] = new
        report: dict[str, Any] = {"edits": len(params.edits), "partners": len(partners)}
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(partners=tuple(sorted(partners.values())), report=report)

    def told(self, params: Any) -> str:
        edits = params["edits"]
        if len(edits) > 1:
            return f"Edit {counted(len(edits), 'partner')}"
        verbs = {"add": "Add", "set": "Change", "remove": "Delete"}
        return f"{verbs[edits[0]['do']]} partner {edits[0]['name']}"


def _set(partner: Partner, edit: PartnerEdit, digests: list[str]) -> Partner:
    if edit.other is not None and edit.other >= len(digests):
        raise BadInput(f"{edit.name}: there are {len(digests)} clips, and none {edit.other}")
    given = {n: getattr(edit, n) for n in ("later", "moved", "turned", "muted")}
    given |= {"name": edit.new_name}
    given |= {"digest": None if edit.other is None else digests[edit.other]}
    return replace(partner, **{n: v for n, v in given.items() if v is not None})
