"""Recipes kept by name, and batches: a recipe on many takes."""

from fractions import Fraction
from typing import Any

from django.db import IntegrityError, transaction
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from editing import batches
from editing.models import Batch, Recipe
from editing.outcomes import Many
from editing.recipes import fresh_lines, title
from leancurve.errors import BadInput
from leancurve.operations import operation_named
from leancurve.recipe import ALL_OF_IT, FEET_PLANTED
from library.models import Take, Workspace
from ninja import Router, Status
from studio import bins

from api.access import seen, workspace_for
from api.schemas import recipes as schemas

router = Router()

BUILT_IN = {0: ("All of it", ALL_OF_IT), -1: ("All of it, feet planted", FEET_PLANTED)}
"""The recipes that come with the application, by number."""


def kept_recipe(workspace: Workspace, recipe_id: int) -> Many:
    """A recipe, its lines new ones: one that is kept, or that comes with the application."""
    if recipe_id in BUILT_IN:
        name, lines = BUILT_IN[recipe_id]
        return Many(name, fresh_lines(lines))
    recipe = get_object_or_404(Recipe, pk=recipe_id, workspace=workspace, binned=None)
    return _many(recipe)


def _many(recipe: Recipe) -> Many:
    rate = None if recipe.rate is None else Fraction(*recipe.rate)
    return Many(recipe.name, fresh_lines(recipe.lines), rate)


def _out(recipe_id: int, many: Many) -> dict[str, Any]:
    told = [title(x) for x in many.lines]
    return {"id": recipe_id, "name": many.name, "lines": many.lines, "told": told}


@router.get("workspaces/{int:workspace_id}/recipes", response=list[schemas.RecipeOut])
def recipes(request: HttpRequest, workspace_id: int) -> Any:
    workspace = workspace_for(request, workspace_id)
    kept = [_out(r.pk, _many(r)) for r in workspace.recipes.filter(binned=None)]
    return [*(_out(number, kept_recipe(workspace, number)) for number in BUILT_IN), *kept]


@router.post("workspaces/{int:workspace_id}/recipes", response=schemas.RecipeOut)
def keep_recipe(request: HttpRequest, workspace_id: int, wanted: schemas.RecipeIn) -> Any:
    """Keep lines under a name; how a take is read is no part of a recipe."""
    workspace = workspace_for(request, workspace_id)
    lines, left_out = [], []
    for line in wanted.lines:
        why = _why_not_kept(line)
        if why:
            left_out.append(f"{title(line.model_dump())}: {why}")
        elif line.operation != "read":
            lines.append(line.model_dump())
    if not lines:
        raise BadInput(
            "recipe: there is nothing to keep beside how the take is read"
            + (f". {left_out[0]}" if left_out else "")
        )
    kept = [
        {k: x[k] for k in ("operation", "version", "params", "scope")} for x in fresh_lines(lines)
    ]
    try:
        with transaction.atomic():
            recipe = Recipe.objects.create(
                workspace=workspace, name=wanted.name, lines=kept, rate=wanted.rate
            )
    except IntegrityError:
        raise BadInput(f"name: a recipe {wanted.name!r} is kept already") from None
    return {**_out(recipe.pk, _many(recipe)), "left_out": left_out}


def _why_not_kept(line: schemas.KeptLineIn) -> str:
    """Why a line has no place in a recipe for other takes; empty where it has one."""
    if line.aside:
        return f"it is set aside, since {line.aside}"
    kinds = {i.kind for i in operation_named(line.operation).inputs.values() if not i.optional}
    if kinds & {"clip", "skeleton"}:
        return "it works with another clip, which a recipe does not hold"
    if any(i.kind == "hand" for i in operation_named(line.operation).inputs.values()):
        return "it lifts what was done by hand on this clip"
    return ""


@router.delete("recipes/{int:recipe_id}", response={204: None})
def forget_recipe(request: HttpRequest, recipe_id: int) -> Any:
    bins.put_in(seen(request, Recipe.objects.filter(binned=None), pk=recipe_id))
    return Status(204, None)


@router.post("workspaces/{int:workspace_id}/batches", response=schemas.BatchOut)
def start_batch(request: HttpRequest, workspace_id: int, wanted: schemas.BatchIn) -> Any:
    workspace = workspace_for(request, workspace_id)
    many = kept_recipe(workspace, wanted.recipe)
    takes = Take.objects.seen_by(request.user).filter(workspace=workspace, pk__in=wanted.takes)
    found = {t.pk: t for t in takes}
    missing = [pk for pk in wanted.takes if pk not in found]
    if missing:
        raise BadInput(f"takes: there is no take {missing[0]} here")
    chosen = [found[pk] for pk in dict.fromkeys(wanted.takes)]
    return _batch_out(batches.start(workspace, many, chosen, request.user))


@router.get("workspaces/{int:workspace_id}/batches", response=list[schemas.BatchOut])
def list_batches(request: HttpRequest, workspace_id: int) -> Any:
    workspace = workspace_for(request, workspace_id)
    return [_batch_out(b) for b in workspace.batches.all()[:20]]


@router.get("batches/{int:batch_id}", response=schemas.BatchOut)
def one_batch(request: HttpRequest, batch_id: int) -> Any:
    return _batch_out(_batch(request, batch_id))


@router.post("batches/{int:batch_id}/cancel", response=schemas.BatchOut)
def cancel_batch(request: HttpRequest, batch_id: int) -> Any:
    batch = _batch(request, batch_id)
    batches.cancel(batch)
    return _batch_out(batch)


def _batch(request: HttpRequest, batch_id: int) -> Batch:
    found = Batch.objects.select_related("workspace")
    return seen(request, found, pk=batch_id)


def _batch_out(batch: Batch) -> dict[str, Any]:
    return {
        "id": batch.pk,
        "name": batch.name,
        "told": [title(line) for line in batch.lines],
        "created": batch.created,
        "rows": [
            {
                "job": job.pk,
                "take": job.payload["take"],
                "name": job.title,
                "state": job.state,
                "progress": job.progress,
                "message": job.message,
                "result": job.result,
            }
            for job in batches.jobs_of(batch)
        ],
    }
