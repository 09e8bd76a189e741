"""glTF 2.0 in all its dresses: .gltf, .glb, .vrm and .vrma."""

from .reader import GltfLayout as Layout  # noqa: F401
from .reader import read  # noqa: F401
from .writer import encode  # noqa: F401
