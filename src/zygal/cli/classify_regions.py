"""zygal classify --regions: which parts of one picture carry the answer."""

from __future__ import annotations

from itertools import islice

from zygal.cli.output import console, write_json
from zygal.errors import FileError
from zygal.wording import percent


def draw_regions_of_one(options, listing, first, beside) -> int:
    """Draws what carries the answer about the one image that is named, and beside it what carries it for the other."""
    from zygal.prediction.regions import region_map
    from zygal.figures.regions import MappedPicture, draw_regions

    paths = list(islice(listing, 2))
    if len(paths) != 1:
        raise FileError("--regions draws one image; name one.")
    fed = first.read(paths[0])
    said = first.labels[int(first.answer([fed.tensor])[0].argmax())]
    mapped = []
    for each in filter(None, (first, beside)):
        pixels = fed.pixels if each.reads_like(first) else each.read(paths[0]).pixels
        name = f"{each.path} on {each.engine_name}"
        mapped.append(MappedPicture(name, each.in_colour(pixels), region_map(each, pixels, each.labels.index(said))))
    draw_regions(mapped, f"{paths[0]}: red carries the answer {said}, blue speaks against it", options.regions)
    _report(options, paths[0], said, mapped, beside is not None and first.reads_like(beside))
    return 0


def _report(options, path: str, said: str, mapped, comparable: bool) -> None:
    import numpy as np

    out = console()
    for each in mapped:
        weight = each.found.weight
        row, column = np.unravel_index(int(weight.argmax()), weight.shape)
        out.print(
            f"{each.name}: {said} {percent(each.found.probability)}; covering a patch leaves {percent(each.found.lowest)} at "
            f"worst; what carries most begins {column} from the left and {row} from the top of {weight.shape[1]} by "
            f"{weight.shape[0]} pixels."
        )
    apart = None
    if comparable:
        mine, other = (each.found.weight for each in mapped)
        apart = float(np.abs(mine - other).max())
        out.print(f"The two maps differ by {apart:.2g} in log-odds at most, of {np.abs(mine).max():.2g}.")
    out.print(f"Drawn: {options.regions}")
    maps = [{"name": each.name, "probability": each.found.probability, "lowest_probability": each.found.lowest,
             "patch_pixels": each.found.patch, "fall_of_log_odds": each.found.weight.tolist()} for each in mapped]  # fmt: skip
    write_json(options.json, {"image": path, "class": said, "largest_difference_log_odds": apart, "maps": maps})
