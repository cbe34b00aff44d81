"""The commands of the command line, one record each: its name, what it does, its options, and the function that runs it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any, cast

from mivrat.commands.values import check_names, costs, ks, level, model_place, seconds, share, whole
from mivrat.core.heatmaps.methods import METHODS
from mivrat.core.pictures.distorting.names import NAMES, USUAL


@dataclass(frozen=True)
class Option:
    """One option, or a value without a name; ``settings`` are those of ``add_argument``."""

    name: str
    settings: Mapping[str, Any]

    def but(self, **settings: Any) -> Option:
        """The same option with other settings."""
        return Option(self.name, {**self.settings, **settings})


def _option(name: str, help: str | None = None, **settings: Any) -> Option:
    return Option(name, {"help": help, **settings})


def _flag(name: str, help: str | None = None) -> Option:
    return Option(name, {"help": help, "action": "store_true"})


def _repeated(name: str, help: str, metavar: str, **settings: Any) -> Option:
    return Option(name, {"help": help, "metavar": metavar, "action": "append", "default": [], **settings})


@dataclass(frozen=True)
class OneOf:
    """Options of which at most one is given."""

    options: tuple[Option, ...]


@dataclass(frozen=True)
class Command:
    """One command. ``runs`` names the module under ``mivrat.commands`` and its function: a command loads only what it needs.
    ``headless``: it does its work without a window."""

    name: str
    help: str
    runs: str
    options: tuple[Option | OneOf, ...] = ()
    headless: bool = True

    @property
    def function(self) -> Callable[[Any], int]:
        """What runs it: takes the parsed arguments, gives the exit code."""
        module, _, name = self.runs.partition(":")
        return cast("Callable[[Any], int]", getattr(import_module(f"mivrat.commands.{module}"), name))


AGREE = _repeated(
    "--agree",
    "images may be sent to this prediction service, now and later, such as https://host:443; a key too where its header and "
    "variable stand behind, in quotes",
    "ADDRESS",
)
AGREE_FOLDER = _repeated(
    "--agree-folder",
    "the study may read models and images from this folder; needed for a study that was made elsewhere, may be repeated",
    "DIR",
    type=Path,
)
STUDY = Option("study", {"type": Path, "metavar": "STUDY.mivrat"})
MODEL = _option("--model", type=model_place, required=True, metavar="M.onnx|TABLE|SERVICE")
MODEL_OR_SERVICE = MODEL.but(metavar="M.onnx|SERVICE")
IMAGES = _option("--images", type=Path, required=True, metavar="DIR|TABLE|ARCHIVE")
CLASSES = _option("--classes", "class names in the model's order", type=Path, required=True, metavar="FILE")
CLASSES_OR_METADATA = CLASSES.but(
    help="class names in the model's order; without it, those in the ONNX file's own metadata", required=False
)
RECIPE = _option("--recipe", type=Path, metavar="R.toml")
BATCH = _option("--batch", type=whole(1), default=32, metavar="N")
THREADS = _option("--threads", type=whole(1), default=0, metavar="N")
SEED = _option("--seed", "seed for everything that is sampled", type=whole(0), default=0, metavar="N")
OUT = _option("--out", type=Path, required=True, metavar="DIR")
REQUIRE = _repeated("--require", "exit with 1 where this does not hold; may be repeated", "'top1 >= 0.9'")
JUNIT = _option("--junit", "write the requirements as JUnit XML, for build servers", type=Path, metavar="FILE.xml")
CLUSTER = _option(
    "--cluster",
    "work on the workers of a Dask scheduler, or in N processes of this machine; what is written is the same",
    metavar="tcp://HOST:PORT|local:N",
)
# Which region of each image a test takes.
REGION = (
    _option("--region", "as shares of the network input, 0 to 1", metavar="LEFT,TOP,RIGHT,BOTTOM"),
    _option(
        "--shapes",
        "a list of shapes: rectangle, ellipse, lasso, brush; points as shares",
        type=Path,
        metavar="FILE.json",
    ),
    _option("--hottest", "each image's hottest share of the area, such as 0.1", type=float, metavar="SHARE"),
    _option(
        "--colour",
        "in each image the pixels of this colour, or of the colour of a patch of an image",
        metavar="RRGGBB|IMAGE:LEFT,TOP,RIGHT,BOTTOM",
    ),
    _option("--tolerance", "how far from it, in CIE 1976 Delta E", type=float, default=18.0, metavar="DE"),
    _option(
        "--like",
        "in each image the places like this patch of an image",
        metavar="IMAGE:LEFT,TOP,RIGHT,BOTTOM",
    ),
    _option("--alike", "how like it at least, -1 to 1", type=float, default=0.6, metavar="COSINE"),
    _option("--layer", "the layer the heat, or what a place is like, is taken from", metavar="TENSOR"),
)
TOGETHER = _option(
    "--together",
    "images with the same value here are related (one slide, patient, burst): intervals and tests are over these",
    metavar="COLUMN",
)
# What a run is made of.
RUN = (
    AGREE,
    MODEL.but(
        help="an ONNX file, a table of predictions made elsewhere, or a prediction service: its address "
        "(https://host/v2/models/NAME) or its description (service.toml)"
    ),
    IMAGES.but(help="one folder per class, a table with path and label columns, or an archive of pictures"),
    CLASSES,
    RECIPE.but(help="the preprocessing; guessed from the model's input, and said so, where it is not given"),
    _option(
        "--study",
        "keep the run in a study; a stopped run goes on from there",
        type=Path,
        metavar="FILE.mivrat",
    ),
    BATCH,
    THREADS,
    SEED,
)

COMMANDS = (
    Command("demo", "open the demonstration study", "opening:window", headless=False),
    Command("open", "open a study", "opening:window", (STUDY.but(metavar="FILE.mivrat", nargs="?"),), headless=False),
    Command(
        "evaluate",
        "score images and write the figures",
        "evaluating:evaluate",
        (
            *(CLASSES_OR_METADATA if one is CLASSES else one for one in RUN),
            CLUSTER,
            OUT,
            _option("--top", type=ks, metavar="1,3,5"),
            _option("--group", "figures by this column (dates by month); no interval changes by it", metavar="COLUMN"),
            TOGETHER,
            _option(
                "--threshold", "two classes: call the second one from this probability on", type=share, metavar="T"
            ),
            _option(
                "--families",
                "coarser groups of classes: a table with class and family",
                type=Path,
                metavar="TABLE",
            ),
            _option(
                "--costs", "two classes: what either kind of mistake costs", type=costs, metavar="FALSE_ALARM,MISS"
            ),
            OneOf(
                (
                    _option("--per-class", "score only N images of each class, sampled", type=whole(1), metavar="N"),
                    _option("--sample", "score only N images, sampled", type=whole(1), metavar="N"),
                )
            ),
            REQUIRE,
            JUNIT,
        ),
    ),
    Command(
        "compare",
        "compare two runs: two models on the same images, or one model on two sets",
        "comparing:compare",
        (
            AGREE,
            _option(
                "--a",
                "a model (net.onnx, or net.onnx,recipe.toml), a table of predictions, or a service (its address or service.toml)",
                required=True,
                metavar="RUN",
            ),
            _option(
                "--b",
                "what is compared with a. May be repeated. With --images-b it may be left out: then it is a",
                action="append",
                metavar="RUN",
            ),
            IMAGES,
            _option("--images-b", "another image set, for b", type=Path, metavar="DIR|TABLE"),
            CLASSES,
            _option("--classes-b", "b's, where they differ: matched by name", type=Path, metavar="FILE"),
            _option("--group", "the difference by this column, on the same images", metavar="COLUMN"),
            _option(
                "--together",
                "images with the same value here are related: intervals are over these",
                metavar="COLUMN",
            ),
            _option(
                "--margin", "a loss of at most this counts as not worse", type=share, default=0.01, metavar="SHARE"
            ),
            BATCH,
            THREADS,
            SEED,
            CLUSTER,
            REQUIRE.but(metavar="'low(difference(top1)) >= -0.01'"),
            JUNIT,
            OUT,
        ),
    ),
    Command(
        "check",
        "check inputs for mismatches before trusting a figure",
        "evaluating:check",
        (
            *RUN,
            _option("--training", "training images, to look for copies of them", type=Path, metavar="DIR|TABLE"),
            _option("--only", "only these checks", type=check_names, metavar="NAME,…"),
            _flag("--quick", "leave out those that read every file or try recipes"),
            _flag("--json", "print the results as JSON instead of sentences"),
            _option("--out", "write the results as JSON", type=Path, metavar="FILE"),
        ),
    ),
    Command(
        "report",
        "write the report of a run in a study",
        "concluding:report",
        (
            STUDY,
            _option(
                "--out",
                ".html, .pdf, .json (its figures), .xml (JUnit), .md (a model card) or .csv (the list of its images); may be repeated",
                type=Path,
                required=True,
                action="append",
                metavar="FILE",
            ),
            AGREE_FOLDER,
            _option("--run", "a model, an image set, or 'MODEL on SET'; without it the latest run", metavar="NAME"),
            _repeated("--against", "compare it with this run of the study, as its baseline; may be repeated", "RUN"),
            _repeated("--candidate", "compare this run with it, which is the baseline then; may be repeated", "RUN"),
        ),
    ),
    Command(
        "verify",
        "check the next model, or other images, against the criteria and findings of a study",
        "concluding:verify",
        (
            AGREE,
            AGREE_FOLDER,
            STUDY,
            MODEL,
            RECIPE.but(help="without it the study's recipe for this model, or the one before it"),
            IMAGES.but(help="without it the images that the study concluded on", required=False),
            BATCH,
            THREADS,
            OUT,
        ),
    ),
    Command(
        "layers",
        "list the layers a heatmap can be taken from",
        "explaining:layers",
        (Option("model", {"type": model_place, "metavar": "M.onnx"}), RECIPE, _flag("--json")),
    ),
    Command(
        "heatmap",
        "write heatmaps of single images",
        "explaining:heatmap",
        (
            AGREE,
            MODEL_OR_SERVICE.but(help="of a service: occlusion and masks"),
            RECIPE,
            _option("--image", type=Path, required=True, nargs="+", action="extend", metavar="FILE"),
            CLASSES.but(help=None, required=False),
            _option("--layer", "may be repeated: the maps are combined", action="append", metavar="TENSOR"),
            _option(
                "--target",
                "target class. A:B explains A rather than B. May be repeated: the maps are combined",
                action="append",
                metavar="predicted|CLASS|A:B",
            ),
            _option("--method", default="gradient", metavar="|".join(METHODS)),
            SEED.but(help="for random masks"),
            _option("--scale", "colours of maps without a sign", default="heat", choices=("heat", "grey")),
            _option("--over", "the photo or a drawing of its edges", default="photo", choices=("photo", "edges")),
            _flag("--legend", "write <stem>-legend.png too: the overlay with its scale"),
            _option(
                "--board",
                "write <stem>-board.png or .svg too: layers (without --layer, one of each stage) by targets",
                choices=("png", "svg"),
            ),
            CLUSTER,
            OUT,
        ),
    ),
    Command(
        "cover",
        "hide a region of many images, score again, and test what changed",
        "explaining:cover",
        (
            AGREE,
            MODEL_OR_SERVICE,
            IMAGES,
            CLASSES.but(help=None),
            RECIPE,
            _option("--labelled", "only images with this label", metavar="CLASS"),
            _option("--predicted", "only images predicted as this class", metavar="CLASS"),
            *REGION,
            _option(
                "--heat-from",
                "take the heat from another model, by the same recipe",
                type=Path,
                metavar="M.onnx",
            ),
            _option("--target", default="predicted", metavar="predicted|CLASS"),
            _option("--hide", default="blur", choices=("blur", "mean", "patch")),
            SEED.but(help=None),
            CLUSTER,
            OUT,
        ),
    ),
    Command(
        "transplant",
        "paste a region of some images onto others, score again, and test whether it is enough for an answer",
        "transplanting:transplant",
        (
            AGREE,
            MODEL_OR_SERVICE,
            IMAGES,
            CLASSES.but(help=None),
            RECIPE,
            _option("--from-labelled", "pieces from images with this label", metavar="CLASS"),
            _option("--from-predicted", "pieces from images predicted as this class", metavar="CLASS"),
            _option("--onto-labelled", "onto images with this label only", metavar="CLASS"),
            _option("--onto-predicted", "onto images predicted as this class only", metavar="CLASS"),
            _option(
                "--donors",
                "the most images to take pieces from; a random sample of them",
                type=whole(1),
                default=50,
                metavar="N",
            ),
            _option(
                "--receivers",
                "the most images to paste onto; a random sample of them",
                type=whole(1),
                default=200,
                metavar="N",
            ),
            *REGION,
            _option(
                "--at",
                "where the middle of the piece goes, as shares of the network input; without it, where it was",
                metavar="ACROSS,DOWN",
            ),
            _option("--edge", default="hard", choices=("hard", "soft")),
            _option("--target", "the class whose answers are counted", default="predicted", metavar="predicted|CLASS"),
            TOGETHER,
            SEED.but(help=None),
            OUT,
        ),
    ),
    Command(
        "strain",
        "distort images step by step, score again, and tell what becomes of the figures",
        "straining:strain",
        (
            *RUN,
            CLUSTER,
            _repeated(
                "--kind",
                f"a kind of distortion and its levels, such as blur:0.5,1,2 (a kind alone has levels of its own). Two make a grid, such as "
                f"blur:1,2+noise:0,0.1. {', '.join(NAMES)}; "
                f"without it {', '.join(USUAL)}",
                "KIND:LEVEL,…",
            ),
            _option("--group", "accuracy at each level by this column, too (dates by month)", metavar="COLUMN"),
            _option(
                "--margin",
                "a kind breaks where it costs more accuracy than this, beyond chance",
                type=share,
                default=0.05,
                metavar="SHARE",
            ),
            _option(
                "--together",
                "images with the same value here are related: intervals and tests are over these",
                metavar="COLUMN",
            ),
            OUT,
            REQUIRE.but(metavar="'at(blur, 1.5, top1) >= 0.8'"),
            JUNIT,
        ),
    ),
    Command(
        "weak",
        "what wrong images share: properties of the photos and columns in which they differ, and weak spots, found on one half of the "
        "images and confirmed on the other",
        "weak:weak",
        (*RUN, CLUSTER, TOGETHER, OUT),
    ),
    Command(
        "sets",
        "prediction sets: how many classes an answer must name so that a chosen share of the sets holds the label, and where that fails",
        "sets:sets",
        (
            *RUN,
            CLUSTER,
            _option(
                "--level", "the share of sets that should hold the label", type=level, default=0.9, metavar="SHARE"
            ),
            _option(
                "--score",
                "least: the fewest classes on average (default); adaptive: larger sets where the model is less sure",
                default="least",
                choices=("least", "adaptive"),
            ),
            _flag("--by-class", "a threshold for each class, so that the level holds in each"),
            _option("--on", "judge the same threshold on this set, too", type=Path, metavar="DIR|TABLE"),
            _option("--group", "coverage by this column, too (dates by month)", metavar="COLUMN"),
            TOGETHER,
            OUT,
        ),
    ),
    Command(
        "sample",
        "which images of a pool to have labelled, so that a figure is known with few labels",
        "labelling:sample",
        (
            *RUN,
            CLUSTER,
            _option(
                "--figure",
                'the figure to estimate for the pool: top1, recall["class"], precision["class"] or difference(top1)',
                required=True,
                metavar="FIGURE",
            ),
            _option("--against", "the model that a difference is to: net.onnx,recipe.toml, or a table", metavar="RUN"),
            _option("--labels", "the number of labels", type=whole(1), metavar="N"),
            _option(
                "--half-width",
                "the half-width of the interval that you need; the number of labels follows",
                type=level,
                metavar="SHARE",
            ),
            _option(
                "--labelled",
                "a simple random sample of the pool that has labels already: a table with path and label",
                type=Path,
                metavar="TABLE",
            ),
            _flag(
                "--copies", "also copy the images to label into a folder beside the list, named by their number in it"
            ),
            OUT,
        ),
    ),
    Command(
        "estimate",
        "what the labels of a list that sample has drawn say of the whole pool",
        "labelling:estimate",
        (
            Option("folder", {"type": Path, "metavar": "DIR", "help": "the folder that sample has written"}),
            _option(
                "--labels",
                "a table with path and label; without it, the column label of sample.csv",
                type=Path,
                metavar="TABLE",
            ),
            REQUIRE.but(metavar="'low(top1) >= 0.9'"),
            JUNIT,
            OUT,
        ),
    ),
    Command(
        "review",
        "several readers of the same images: export one's decisions, merge another's, and say how far they agree",
        "reviewing:review",
        (
            Option("action", {"choices": ("export", "merge", "agreement"), "help": "what to do"}),
            STUDY,
            Option(
                "file", {"type": Path, "nargs": "?", "metavar": "FILE.json", "help": "merge: what review export wrote"}
            ),
            _option("--reader", "export: who decides in this study; kept with it", metavar="NAME"),
            _option("--out", "export: the file; agreement: the same figures as JSON", type=Path, metavar="FILE.json"),
        ),
    ),
    Command(
        "serve",
        "put a model file behind the Open Inference Protocol: a stand-in to try out how services are asked",
        "serving:serve",
        (
            MODEL.but(type=Path, metavar="M.onnx"),
            _option("--name", "what the model is called; without it, what its file is", metavar="NAME"),
            _option("--port", "0: one that is free", type=whole(0), default=8740, metavar="PORT"),
            _option("--host", "who may ask; without it this machine alone", default="127.0.0.1", metavar="ADDRESS"),
            RECIPE.but(help="how pictures are prepared that are sent encoded"),
            CLASSES.but(help="for answers that name the classes", required=False),
            _flag("--pictures", "take encoded pictures in place of tensors"),
            _flag("--no-metadata", "do not describe inputs and outputs"),
            _flag("--no-binary", "take tensors as JSON only"),
            _option("--version", "the version that the server reports for the model", default="1", metavar="VERSION"),
            _option(
                "--new-version-after",
                "answer as another version from then on",
                type=whole(1),
                default=0,
                metavar="N",
            ),
            _option("--delay", "wait before each answer", type=seconds, default=0.0, metavar="SECONDS"),
            _repeated(
                "--trouble",
                "fail on purpose: busy:10 for every tenth request, busy:0.02 for two in a hundred. KIND is one of busy, limit, "
                "gateway, cut, hang, refuse, shape, nan, json, endless and slow. May be repeated",
                "KIND:N",
            ),
            SEED.but(help="for trouble at random"),
        ),
    ),
    Command(
        "desktop",
        "put Mivrat into the menu of this user's desktop, with its icon, its file type, manual page and completions; or take it out",
        "desktop:desktop",
        (Option("action", {"choices": ("install", "remove"), "help": "what to do"}),),
    ),
    Command(
        "completion",
        "print what lets a shell complete commands and options: source it, or put it where the shell looks",
        "shells:completion",
        (Option("shell", {"choices": ("bash", "zsh", "fish"), "help": "the shell"}),),
    ),
)
BY_NAME = {one.name: one for one in COMMANDS}
