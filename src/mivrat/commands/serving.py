"""The command that puts a model file behind the Open Inference Protocol."""

from __future__ import annotations

import argparse

from mivrat.commands.telling import DONE, say, show, stoppable
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.recipe import read_recipe
from mivrat.service.stand_in import Manner, StandIn
from mivrat.service.trouble import parse_trouble


def serve(args: argparse.Namespace) -> int:
    """Answer until stopped."""
    troubles = tuple(parse_trouble(text) for text in args.trouble)
    classes = read_class_list(args.classes) if args.classes else []
    model = OnnxModel(args.model, read_recipe(args.recipe) if args.recipe else None, len(classes) or None)
    manner = Manner(
        args.version,
        args.pictures,
        not args.no_metadata,
        not args.no_binary,
        troubles,
        args.seed,
        args.new_version_after,
        delay=args.delay,
    )
    with StandIn(model, args.name or "", classes, manner, args.host, args.port) as service, stoppable() as stop:
        show(service.address)
        say(
            f"mivrat: {args.model.name} answers at {service.address}, and for single pictures at {service.root}/score; Ctrl-C ends it"
        )
        while not stop.wait(1.0):
            pass
    say(f"mivrat: {service.trouble.requests} requests, {len(service.images)} images answered for")
    return DONE
