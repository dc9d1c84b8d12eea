"""What is used of pyproj, imported when it is first asked for: a quarter of a small command.

What most commands want of a CRS is known without it, see `polygene.crs_coded`.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pyproj import CRS as CRS
    from pyproj import Geod as Geod
    from pyproj import Proj as Proj
    from pyproj import Transformer as Transformer
    from pyproj.aoi import AreaOfInterest as AreaOfInterest
    from pyproj.crs import ProjectedCRS as ProjectedCRS
    from pyproj.crs.coordinate_operation import (
        LambertAzimuthalEqualAreaConversion as LambertAzimuthalEqualAreaConversion,
    )
    from pyproj.enums import WktVersion as WktVersion
    from pyproj.exceptions import CRSError as CRSError
    from pyproj.exceptions import ProjError as ProjError
    from pyproj.transformer import TransformerGroup as TransformerGroup

_HOMES = {
    "CRS": "pyproj",
    "Geod": "pyproj",
    "Proj": "pyproj",
    "Transformer": "pyproj",
    "AreaOfInterest": "pyproj.aoi",
    "ProjectedCRS": "pyproj.crs",
    "LambertAzimuthalEqualAreaConversion": "pyproj.crs.coordinate_operation",
    "WktVersion": "pyproj.enums",
    "CRSError": "pyproj.exceptions",
    "ProjError": "pyproj.exceptions",
    "TransformerGroup": "pyproj.transformer",
}


def __getattr__(name: str) -> Any:
    home = _HOMES.get(name)
    if home is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found = getattr(importlib.import_module(home), name)
    globals()[name] = found
    return found
