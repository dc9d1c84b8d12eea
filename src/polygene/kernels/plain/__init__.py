"""What each kernel computes, in a few lines that are plainly right: the kernels' specification.

Every public kernel has a twin of its name here. Twins take sequences and give back what the kernel
fills in; they know no grids of cells, no order of memory and no rooms, and compare all with all.
Numbers on the grid are Python's integers, coordinates of the real world fractions where signs matter,
so nothing is rounded. Tests hold each kernel to its twin whenever it is called in small random work;
nothing else runs them.
"""

from polygene.kernels.plain.base import *  # noqa: F403
from polygene.kernels.plain.edges import *  # noqa: F403
from polygene.kernels.plain.faces import *  # noqa: F403
from polygene.kernels.plain.numbers import *  # noqa: F403
from polygene.kernels.plain.places import *  # noqa: F403
from polygene.kernels.plain.rings import *  # noqa: F403
from polygene.kernels.plain.rows import *  # noqa: F403
from polygene.kernels.plain.texts import *  # noqa: F403
