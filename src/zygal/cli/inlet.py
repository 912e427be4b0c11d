"""zygal inlet: recover an inlet from a recording, draw what one does, or write one of a common recipe."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import finish_parser, limit, new_parser, share, shown
from zygal.commands.draw import DrawRequest
from zygal.commands.recipes import RecipesRequest
from zygal.commands.recover import RecoverRequest

SUMMARY = (
    "Recovers the preprocessing from a recording (recover), draws what it does to an image (draw), "
    "or lists and writes common recipes (recipes)."
)
RECOVER = Command(RecoverRequest, "zygal.commands.recover", "zygal.cli.reports.inlet")
RECIPES = Command(RecipesRequest, "zygal.commands.recipes", "zygal.cli.reports.inlet_recipes")
DRAW = Command(DrawRequest, "zygal.commands.draw", "zygal.cli.reports.inlet_draw")


def register(commands) -> None:
    group = commands.add_parser(
        "inlet", help=SUMMARY[0].lower() + SUMMARY[1:].rstrip("."), description=SUMMARY, allow_abbrev=False
    )
    actions = group.add_subparsers(metavar="ACTION", required=True, parser_class=type(group))
    recover = new_parser(
        actions,
        "recover",
        "Recovers the whole preprocessing from recorded tensors and the image files, without any hint.",
        "zygal inlet recover --witness channel_marks.witness --images reference -o recovered.inlet.toml",
    )
    recover.add_argument("--witness", metavar="FILE", required=True, help="the recording of the training framework")
    recover.add_argument("--images", metavar="DIR", required=True, help="folder of the recorded images")
    recover.add_argument("-o", "--output", metavar="FILE", required=True, help="the inlet to write (TOML)")
    recover.add_argument(
        "--artifact", metavar="FILE", help="for a witness without tensors: the model whose scores guide the search"
    )
    accept = default_of(RecoverRequest, "accept")
    recover.add_argument(
        "--accept",
        metavar="LEVELS",
        type=limit,
        default=accept,
        help="difference that 99.9 %% of each tensor's values must keep, in grey levels; the others may be one level "
        f"more (default: {shown(accept)})",
    )
    accept = default_of(RecoverRequest, "accept_scores")
    recover.add_argument(
        "--accept-scores",
        metavar="SHARE",
        type=share,
        default=accept,
        help=f"the same for scores, as a share of their spread (default: {shown(accept)})",
    )
    finish_parser(recover, RECOVER)
    draw = new_parser(
        actions,
        "draw",
        "Draws an image after each stage of an inlet, with its size and range of values.",
        "zygal inlet draw reference/mark-05.jpg --inlet channel_marks.inlet.toml -o strip.png",
    )
    draw.add_argument("image", metavar="IMAGE", help="the image file")
    draw.add_argument("--inlet", metavar="FILE", required=True, help="the inlet (TOML), or an artifact that holds one")
    draw.add_argument("-o", "--output", metavar="PNG", required=True, help="the picture to write")
    finish_parser(draw, DRAW)
    recipes = new_parser(
        actions,
        "recipes",
        "Lists the inlets of common recipes, prints one, or writes it.",
        "zygal inlet recipes short-side-crop -o channel_marks.inlet.toml",
    )
    recipes.add_argument("name", metavar="NAME", nargs="?", help="the recipe; without it all are listed")
    recipes.add_argument(
        "-o", "--output", metavar="FILE", help="the inlet to write (TOML); without it the recipe is printed"
    )
    finish_parser(recipes, RECIPES)
