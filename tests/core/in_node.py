"""Scripts of tests that run beside the interface's packages: three.js, the standard's validator."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

from tests.conftest import PROJECT

PLAYED = """
import { readFileSync } from 'node:fs'
import { AnimationMixer, Vector3 } from 'three'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
globalThis.self = globalThis
const data = readFileSync(process.argv[2])
const bytes = data.buffer.slice(data.byteOffset, data.byteOffset + data.byteLength)
new GLTFLoader().parse(bytes, '', (gltf) => {
  const mixer = new AnimationMixer(gltf.scene)
  mixer.clipAction(gltf.animations[0]).play()
  const out = []
  for (const t of JSON.parse(process.argv[3])) {
    mixer.setTime(t)
    gltf.scene.updateMatrixWorld(true)
    LOOK
  }
  console.log(JSON.stringify(out))
}, (trouble) => { throw trouble })
"""


def in_node(name: str, script: str, *arguments: str) -> Any:
    """What a script prints as JSON, run where the interface's packages are found."""
    file = PROJECT / f"web/.{name}.mjs"
    file.write_text(script)
    try:
        command = ["node", file.name, *arguments]
        done = subprocess.run(command, cwd=file.parent, capture_output=True, text=True, check=True)
    finally:
        file.unlink()
    return json.loads(done.stdout)


def three_sees(name: str, path: Path, seconds: list[float], look: str) -> Any:
    """What three.js' GLTFLoader and AnimationMixer make of a file at some times: ``look`` adds to
    ``out`` what there is to see in ``gltf.scene`` at one."""
    return in_node(name, PLAYED.replace("LOOK", look), str(path), json.dumps(seconds))
