"""The options that commands share which make one layer out of each INPUT without an OTHER."""

from __future__ import annotations

from polygene.cli import grounds, options
from polygene.cli.asked import Asked, asks

_FIRST = (options.inputs, options.where)
_WAY = (options.replace, options.next_)
_LAST = (
    options.crs,
    grounds.common,
    options.stop_at_first,
    options.dry_run,
    options.json,
    options.quiet,
)

# Of those that work on geometry; that carry it as it is; the same but for the destination; and where
# there is no choice what to do about invalid polygons. Of `fields` all features stay.
common = asks(Asked, *_FIRST, options.out, *_WAY, options.invalid, *_LAST)
common_carrying = asks(Asked, *_FIRST, options.out, *_WAY, options.invalid_carried, *_LAST)
common_but_out = asks(Asked, *_FIRST, *_WAY, options.invalid_carried, *_LAST)
common_mending = asks(Asked, *_FIRST, options.out, *_WAY, *_LAST)
common_of_values = asks(
    Asked,
    options.inputs,
    options.where_of("Change values of those features of INPUT only"),
    options.out,
    *_WAY,
    options.invalid_carried,
    *_LAST,
)
