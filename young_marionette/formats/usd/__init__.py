"""USD with UsdSkel: usda, usdc and usdz. The library behind it is only loaded when a USD file is met."""

from .reader import UsdLayout, is_usd, read  # noqa: F401
from .worker import encode  # noqa: F401
