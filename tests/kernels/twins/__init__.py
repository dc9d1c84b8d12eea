"""For each kernel: what it was given, what it made, and what its twin makes of the same."""

from tests.kernels.twins.edges import OfEdges
from tests.kernels.twins.faces import OfFaces
from tests.kernels.twins.numbers import OfNumbers
from tests.kernels.twins.places import OfPlaces
from tests.kernels.twins.rings import OfRings
from tests.kernels.twins.texts import OfTexts


class Twins(OfEdges, OfFaces, OfNumbers, OfPlaces, OfRings, OfTexts):
    """All of them."""
