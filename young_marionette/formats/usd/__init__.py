"""USD with UsdSkel: usda, usdc and usdz. The library behind it is only loaded when a USD file is met."""

from .reader import UsdLayout as Layout  # noqa: F401
from .reader import read  # noqa: F401
from .worker import encode  # noqa: F401
