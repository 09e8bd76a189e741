"""glTF 2.0 in all its dresses: .gltf, .glb, .vrm and .vrma."""

from .container import is_gltf  # noqa: F401
from .reader import GltfLayout, read  # noqa: F401
from .writer import encode  # noqa: F401
