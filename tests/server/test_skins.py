"""Bodies of skeletons: kept with what came in, fetched, counted, taken along, swept."""

from __future__ import annotations

import zipfile
from datetime import timedelta
from io import StringIO
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.management import call_command
from documents.models import Blob
from editing import sweeping
from leancurve.errors import BadInput
from leancurve.formats.gltf.reading import read_gltf
from library.models import Skeleton, StoredFile, Workspace
from safetensors.numpy import load
from studio.checking import Most, checked
from studio.usage import bytes_of_skins

from tests.core.test_gltf import WAVE, T
from tests.core.test_skins import FACES, fleshed
from tests.server.conftest import Api
from tests.server.test_takes import work_off

pytestmark = pytest.mark.django_db(transaction=True)
NOW = timedelta(0)


def two_takes() -> bytes:
    b, at, *_ = fleshed(8)
    b.move(b.animation("nod"), at["Head"], "rotation", T[:20], WAVE[:20])
    return b.glb()


DATA = two_takes()


@pytest.fixture
def clip(api: Api, workspace: Workspace) -> dict:
    api.upload(workspace, crew__glb=DATA)
    work_off()
    takes = api.get(f"workspaces/{workspace.pk}/takes").json()
    assert [t["triangles"] for t in takes] == [len(FACES)] * 2
    out: dict = api.post(f"takes/{takes[0]['id']}/clip", {}).json()
    return out


def test_a_body_comes_in_with_its_skeleton_and_is_fetched_by_its_digest(
    api: Api, workspace: Workspace, clip: dict
) -> None:
    assert clip["skin"]["triangles"] == len(FACES)
    address = f"workspaces/{workspace.pk}/skins/{clip['skin']['digest']}"
    answer = api.get(address)
    assert "immutable" in answer["Cache-Control"]
    read = read_gltf(DATA)[0].skin
    assert read is not None
    for name, values in load(answer.content).items():
        assert np.array_equal(values, getattr(read, name))
    assert api.get(f"workspaces/{workspace.pk}/skins/{'f' * 64}").status_code == 404
    elsewhere = Workspace.objects.create(name="Elsewhere")
    digest = clip["skin"]["digest"]
    assert api.get(f"workspaces/{elsewhere.pk}/skins/{digest}").status_code == 404
    assert api.apply(clip, "thin")["skin"] == clip["skin"]


def test_a_body_counts_and_stays_while_its_skeleton_has_it(
    workspace: Workspace, clip: dict
) -> None:
    digest = clip["skin"]["digest"]
    assert bytes_of_skins(workspace) > 1_000
    assert sweeping.sweep(age=NOW)["blobs"] == 0
    assert sweeping.check() == []
    Skeleton.objects.update(skin="")
    assert bytes_of_skins(workspace) == 0
    assert sweeping.sweep(age=NOW)["blobs"] == 1
    assert not Blob.objects.filter(sha=digest).exists()
    Skeleton.objects.update(skin=digest)
    assert sweeping.check() == [f"body {digest[:12]} of a skeleton is not there"]


def test_a_workspaces_file_takes_bodies_and_shared_files_along_once(
    user: User, api: Api, workspace: Workspace, clip: dict, tmp_path: Path
) -> None:
    target = tmp_path / "crew.zip"
    call_command("export_workspace", workspace.name, str(target), stdout=StringIO())
    with zipfile.ZipFile(target) as file:
        assert sum(n.startswith("takes/") for n in file.namelist()) == 1
    call_command("import_workspace", str(target), owner=user.username, stdout=StringIO())
    there = Workspace.objects.exclude(pk=workspace.pk).get()
    assert there.skeletons.get().skin == clip["skin"]["digest"]
    assert StoredFile.objects.filter(workspace=there).count() == 1
    takes = api.get(f"workspaces/{there.pk}/takes").json()
    assert [(t["of_its_file"], t["triangles"]) for t in takes] == [(2, len(FACES))] * 2


def test_a_workspaces_file_with_a_wrong_body_is_refused(
    workspace: Workspace, clip: dict, tmp_path: Path
) -> None:
    Skeleton.objects.update(triangles=7)
    target = tmp_path / "crew.zip"
    call_command("export_workspace", workspace.name, str(target), stdout=StringIO())
    with pytest.raises(BadInput, match="other triangles than it says"):
        checked(target, Most())
