"""What time it is, for what is written down."""

from __future__ import annotations

import datetime
import os


def now() -> str:
    """Return the time, to the second; the one that SOURCE_DATE_EPOCH says if it is set."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH", "")
    utc = datetime.UTC
    moment = (
        datetime.datetime.fromtimestamp(int(fixed), utc)
        if fixed.isdigit()
        else (datetime.datetime.now(utc))
    )
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")
