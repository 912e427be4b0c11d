"""zygal classify --regions: what supports the prediction for one image."""

from __future__ import annotations

from itertools import islice
from typing import TYPE_CHECKING

from zygal.commands.classify.outcome import ClassifyOutcome, about
from zygal.commands.classify.request import ClassifyRequest
from zygal.errors import FileError
from zygal.prediction.figure import MappedPicture, draw_regions
from zygal.prediction.regions import region_map

if TYPE_CHECKING:
    from zygal.prediction.classifier import Classifier
    from zygal.prediction.listing import Listing


def map_regions(
    request: ClassifyRequest, listing: Listing, first: Classifier, other: Classifier | None, notes
) -> ClassifyOutcome:
    """Draws which parts of the one image support the prediction, and the same for the compared model."""
    paths = list(islice(listing, 2))
    if len(paths) != 1:
        raise FileError("--regions draws one image, and several are given; name one image.")
    read = first.read(paths[0])
    predicted = first.labels[int(first.predict([read.tensor])[0].argmax())]
    maps = []
    for each in filter(None, (first, other)):
        pixels = read.pixels if each.reads_like(first) else each.read(paths[0]).pixels
        found = region_map(each, pixels, each.labels.index(predicted))
        maps.append(MappedPicture(f"{each.name} on {each.engine_name}", each.in_colour(pixels), found))
    draw_regions(maps, f"{paths[0]}: what supports and what opposes the prediction {predicted}", request.regions)
    differ = None
    if other is not None and first.reads_like(other):
        differ = float(abs(maps[0].found.weight - maps[1].found.weight).max())
    return ClassifyOutcome(
        **about(first, other, request),
        maps=tuple(maps),
        maps_differ_log_odds=differ,
        written=(request.regions,),
        notes=notes,
    )
