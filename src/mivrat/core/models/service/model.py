"""A prediction service as a model: it answers for any image, one request after the other, and knows nothing of layers."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future
from concurrent.futures import wait as wait_for
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.blob_cache import user_cache
from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.models.model import Capabilities, ModelKind
from mivrat.core.models.scores import Kind
from mivrat.core.models.service import open_inference
from mivrat.core.models.service.agreement import agreement_of, is_agreed, question
from mivrat.core.models.service.client import BadAnswer, NoAnswer, Refused, RequestCounts, ServiceClient
from mivrat.core.models.service.described import Described
from mivrat.core.models.service.description import ENDING, Description, read_description
from mivrat.core.models.service.keys import find_key
from mivrat.core.models.service.open_inference import DATATYPES, ModelMetadata, OpenInference, ServerPort, ask_about
from mivrat.core.models.service.pictures import Payload, encoded, picture_recipe
from mivrat.core.pictures.decode import PictureFile, decode_picture, holds_more, plain_copy
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.prepare import prepare_picture
from mivrat.core.pictures.recipe import MOST_SIDE, Recipe, Scores, canonical, guess_recipe

Form = Literal["jpeg", "png", "original", "tensor"]
WORDS: dict[Form, str] = {
    "jpeg": "as JPEG pictures",
    "png": "as PNG pictures",
    "original": "the picture files as they are, with everything in them",
    "tensor": "as the numbers that the recipe makes of them",
}


@dataclass(frozen=True)
class ServiceAnswers:
    """What came of asking for some images: their rows (images x columns, float32), or why there are none; ``again`` tells that
    another time they may be answered, ``of_image`` that the next image may be."""

    rows: NDArray[np.float32] | None
    problem: str = ""
    again: bool = False
    of_image: bool = False


class ServiceModel:
    """A service, met once: what it tells of itself is known, and no image has been sent.

    Raises InputError where it does not answer, or its answers cannot be for these classes; NotAgreed where a key would have to go
    to a host that nobody has agreed to.
    """

    def __init__(
        self, path: Path, classes: Sequence[str], recipe: Recipe | None = None, description: Description | None = None
    ) -> None:
        self.path = path
        self.description = description = description or read_description(path)
        self.name = description.name
        self.remarks: list[str] = []
        if description.key is not None and not is_agreed(description):
            asked = question(description, "once its key has been tried", None)
            raise NotAgreed(description.host, agreement_of(description), asked)
        self.client = ServiceClient(description, find_key(description))
        self.told = ask_about(self.client) if description.send == "open-inference" else ModelMetadata("", "")
        self._version = self.told.version
        self._kept = user_cache("answers")
        port = self._image_port(recipe)
        self.form: Form = self._form(port)
        self.recipe_is_guess = recipe is None and self.form == "tensor"
        self.recipe = self._recipe(port, recipe)
        if self.recipe.scores.kind == "auto":  # what the description says of the scores
            self.recipe = self.recipe.model_copy(update={"scores": Scores(kind=description.response.kind)})
        self.columns = self._columns(len(classes))
        self._classes = len(classes) or (2 if self.columns == 1 else self.columns)
        self._image = port.name if port is not None else self.recipe.tensor.input or "input"
        output = self.recipe.tensor.output or (self.told.outputs[0].name if len(self.told.outputs) == 1 else "")
        self.speaks: OpenInference | Described = (
            OpenInference(description, self.told, self._image, output, self.columns)
            if description.send == "open-inference"
            else Described(description, classes, self.columns)
        )

    def _image_port(self, recipe: Recipe | None) -> ServerPort | None:
        """The input that the images go into, where the server tells of any."""
        ports, wanted = self.told.inputs, recipe.tensor.input if recipe else ""
        if not ports:
            return None
        listed = "; ".join(port.describe() for port in ports)
        found = [port for port in ports if port.name == wanted] if wanted else list(ports)
        if len(found) != 1 or len(ports) > 1:
            raise InputError(
                f"has the inputs {listed}; one that takes images is needed"
                if len(ports) > 1 or not wanted
                else f"has no input '{wanted}'; its inputs: {listed}",
                where=self.description.url,
                hint="name a model that takes images only, or correct tensor.input in the recipe",
            )
        if max((n or 0 for n in found[0].shape[1:]), default=0) > MOST_SIDE:
            raise InputError(
                f"takes {found[0].describe()}, which is longer than {MOST_SIDE} on a side",
                where=self.description.url,
                hint="name a model for smaller images",
            )
        if found[0].datatype not in DATATYPES:
            raise InputError(
                f"takes {found[0].describe()}; Mivrat sends {', '.join(DATATYPES)}",
                where=self.description.url,
                hint="serve the model with one of these input types",
            )
        return found[0]

    def _form(self, port: ServerPort | None) -> Form:
        said = self.description.encoding
        if self.description.send != "open-inference":
            return said or "jpeg"
        takes_pictures = port is not None and port.datatype == "BYTES"
        if port is not None and said is not None and takes_pictures == (said == "tensor"):
            raise InputError(
                f"takes {port.describe()}, the description says encoding = '{said}'",
                where=self.path,
                hint="correct the encoding in the service description, or leave it out",
            )
        return said or ("png" if takes_pictures else "tensor")

    def _recipe(self, port: ServerPort | None, given: Recipe | None) -> Recipe:
        if self.form != "tensor":
            made, changed = picture_recipe(given)
            if changed:
                self.remarks.append(
                    "pictures are sent encoded: of the recipe only picture, resize, crop and scores count"
                )
            return made
        if given is None:
            shape = port.shape if port is not None and len(port.shape) == 4 else (None, 3, None, None)
            dtype = DATATYPES[port.datatype] if port is not None else "float32"
            if port is None:
                self.remarks.append("the server does not describe its inputs, so the recipe must fit")
            made = guess_recipe(shape, dtype)
            self.remarks.append(
                f"no recipe given; guessed: {made.summary()}, {made.tensor.order}, shorter side resized and centre cropped"
            )
            return made
        if port is not None and given.tensor.dtype != DATATYPES[port.datatype]:
            raise InputError(
                f"the service takes {DATATYPES[port.datatype]}, the recipe makes {given.tensor.dtype}",
                where=self.description.url,
                hint=f'set tensor.dtype = "{DATATYPES[port.datatype]}" in the recipe',
            )
        return given

    def _columns(self, classes: int) -> int:
        """How many numbers an answer holds: one for each class, or one for two of them, where the server tells so."""
        wanted = self.recipe.tensor.output
        ports = [one for one in self.told.outputs if not wanted or one.name == wanted]
        if wanted and self.told.outputs and not ports:
            raise InputError(
                f"has no output '{wanted}'; its outputs: {'; '.join(one.describe() for one in self.told.outputs)}",
                where=self.description.url,
                hint="correct tensor.output in the recipe",
            )
        told = {n for one in ports for n in [_width(one)] if n is not None}
        if classes == 2 and told == {1}:
            return 1
        if told and classes and classes not in told:
            raise InputError(
                f"the service's outputs are {'; '.join(one.describe() for one in ports)}, the class list names {classes} classes",
                where=self.description.url,
                hint="use the class list this model was trained with",
            )
        if not classes and len(told) != 1:
            raise InputError(
                "does not tell how many classes it has",
                where=self.description.url,
                hint="name the class list (--classes)",
            )
        return classes or told.pop()

    @property
    def kind(self) -> ModelKind:
        return SERVICE

    @cached_property
    def content(self) -> str:
        """The hash of its address, its name and version as told, and of how it is asked: a JPEG is not the tensor it came from."""
        one = self.description
        root = one.parts()[0] if one.send == "open-inference" else one.url
        how: list[object] = [one.send, self.form]
        if one.send != "open-inference":
            how += [one.image, one.request.fields, one.response.model_dump()]
        told = json.dumps(["service", root, self.told.name, self.told.version, *how], sort_keys=True)
        return hashlib.sha256(told.encode()).hexdigest()

    @property
    def settled(self) -> Kind | None:
        said = self.recipe.scores.kind
        return None if said == "auto" else said

    @property
    def class_count(self) -> int:
        return self._classes

    @property
    def version(self) -> str:
        """The version that answers, as far as the server tells it; empty otherwise."""
        return self._version

    @property
    def in_words(self) -> str:
        """Where it answers, and what would be sent there."""
        version = f" as version {self._version}" if self._version else ""
        return f"a prediction service at {self.description.host} answers{version}; images would go {WORDS[self.form]}, and none has been sent"

    @property
    def tally(self) -> RequestCounts:
        return self.client.tally

    def expect_version(self, version: str) -> None:
        """The version that gave the answers that are kept already: another one is refused."""
        self._version = self._version or version

    def misfit(self, shape: tuple[int, ...]) -> str:
        """Why a prepared image of this shape cannot go in, as far as the server tells its input; empty where it can."""
        told = self.told.inputs[0].shape if self.form == "tensor" and self.told.inputs else ()
        if len(told) != 4 or all(want in (None, n) for want, n in zip(told[1:], shape, strict=True)):
            return ""
        shown = " × ".join("any" if n is None else str(n) for n in told[1:])
        return f"is {' × '.join(map(str, shape))} once prepared; the service takes {shown}"

    def may_send(self, images: int, requests: int | None = None) -> None:
        """Raises NotAgreed, asking in full, where nobody has agreed to sending so many images to this host."""
        if not is_agreed(self.description):
            asked = question(self.description, WORDS[self.form], images, requests)
            raise NotAgreed(self.description.host, agreement_of(self.description), asked)

    def payload(self, file: PictureFile) -> Payload:
        """What goes out for a picture file. Raises UnreadablePicture where it is none: then nothing goes out."""
        if self.form == "original":
            decode_picture(file, self.recipe.picture.mode)
            # A DICOM file holds more than its picture: who is in it goes nowhere.
            return plain_copy(file) if holds_more(file) else file.data
        return self.payload_of(prepare_picture(file, self.recipe))

    def payload_of(self, tensor: NDArray[Any]) -> Payload:
        """What goes out for a prepared image; one that was altered goes as PNG where otherwise the file itself does."""
        return tensor if self.form == "tensor" else encoded(tensor, "jpeg" if self.form == "jpeg" else "png")

    @property
    def at_once(self) -> int:
        """Requests at once."""
        return self.description.limits.at_once

    @property
    def per_request(self) -> int:
        """Images in one request."""
        return self.description.limits.per_request if self.description.send == "open-inference" else 1

    def ask(self, images: Sequence[Payload]) -> Future[ServiceAnswers]:
        """Ask for the answers to at most ``per_request`` images of one size. What the future gives tells of what failed; it raises InputError
        where the service may not be asked at all any more, and cancelling it calls the request off. Raises NotAgreed."""
        self.may_send(len(images))
        content, headers = self.speaks.request(images)
        found: Future[ServiceAnswers] = Future()
        sent = self.client.post(self.speaks.url, content, headers, lambda answer: self.speaks.rows(answer, len(images)))
        sent.add_done_callback(lambda done: self._settle(done, found))
        found.add_done_callback(lambda done: sent.cancel() if done.cancelled() else None)
        return found

    def _settle(self, sent: Future[tuple[NDArray[np.float32], str]], found: Future[ServiceAnswers]) -> None:
        if sent.cancelled() or not found.set_running_or_notify_cancel():
            return
        try:
            rows, version = sent.result()
            self._refuse_other_version(version)
            found.set_result(ServiceAnswers(rows))
        except Refused as error:
            found.set_result(ServiceAnswers(None, f"the service refused it: {error}", of_image=error.of_image))
        except BadAnswer as error:
            found.set_result(ServiceAnswers(None, f"the service gave {error}"))
        except NoAnswer as error:
            found.set_result(ServiceAnswers(None, str(error), again=True))
        except BaseException as error:
            found.set_exception(error)

    def _refuse_other_version(self, version: str) -> None:
        if not version:
            return
        self._version = self._version or version
        if version != self._version:
            raise InputError(
                f"now answers as version {version!r}; until then it was version {self._version!r}",
                where=self.description.url,
                hint="what was answered is kept; begin a run of its own with the version there is now",
            )

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]:
        """Raw scores (images x columns) for prepared images; what was sent before is not sent again. Raises InputError where one of them
        is not answered."""
        payloads = [self.payload_of(one) for one in batch]
        keys = [_key(one) for one in payloads]
        known = self._recalled(dict.fromkeys(keys))
        new = {key: payload for key, payload in zip(keys, payloads, strict=True) if key not in known}
        known |= dict(zip(new, self.asked_now(list(new.values())), strict=True))
        return np.stack([known[key] for key in keys]) if keys else np.zeros((0, self.columns), np.float32)

    def asked_now(self, images: Sequence[Payload], together: int | None = None) -> NDArray[np.float32]:
        """The rows for some images of one size, asked for whether they are known or not; ``together`` in one request, where not as many
        as is usual. Raises InputError where one is not answered."""
        size = together or self.per_request
        stop, asked = current_stop(), list[Future[ServiceAnswers]]()
        groups = [images[first : first + size] for first in range(0, len(images), size)]
        if groups:
            self.may_send(len(images), len(groups))

        def call_off() -> None:
            for one in list(asked):
                one.cancel()

        with stop.calling(call_off):
            asked += [self.ask(group) for group in groups]
            if stop.stopped:
                call_off()
            wait_for(asked)
        if stop.stopped:
            raise Stopped
        found, sent, problem = [np.zeros((0, self.columns), np.float32)], list[Payload](), ""
        for group, one in zip(groups, asked, strict=True):
            answer = one.result()
            if answer.rows is None:
                problem = answer.problem
                continue
            sent += group
            found.append(answer.rows)
        rows = np.concatenate(found)
        self.remember(sent, rows)
        if problem:
            raise InputError(problem, where=self.description.url, hint="see under Check what is known of the service")
        return rows

    def remember(self, images: Sequence[Payload], rows: NDArray[np.float32]) -> None:
        """Keep what was answered for what was sent, so that it is not sent again."""
        if not len(images):
            return
        kept = {
            _key(one): (str(self.columns), row.astype("<f4").tobytes()) for one, row in zip(images, rows, strict=True)
        }
        with suppress(InputError):  # a full disk: then it is asked for another time
            self._kept.put(self._space, kept)

    def _recalled(self, keys: Iterable[bytes]) -> dict[bytes, NDArray[np.float32]]:
        kept = self._kept.some_of(self._space, keys)
        rows = {
            key: np.frombuffer(value, "<f4").astype(np.float32) for key, value in kept.items() if len(value) % 4 == 0
        }
        return {key: row for key, row in rows.items() if len(row) == self.columns}

    @property
    def _space(self) -> str:
        return "\n".join((self.content, canonical(self.recipe), self._version))

    @property
    def row_dtype(self) -> type[np.float32]:
        return np.float32

    def looked_up(self, image_set: ImageSet) -> tuple[NDArray[np.int64], Iterator[NDArray[np.floating]]]:
        """It scores, and lists nothing."""
        raise NotImplementedError

    def try_one(self, file: PictureFile) -> ServiceTrial:
        """Ask for one picture file, and tell what was sent and what came, with the key blanked."""
        return _tried(self, file)

    def is_ready(self) -> bool | None:
        """Whether it says that it is ready; None where it does not say."""
        return open_inference.is_ready(self.client) if self.description.send == "open-inference" else None


def _key(image: Payload) -> bytes:
    """What goes out, by content."""
    if isinstance(image, bytes):
        return hashlib.sha256(image).digest()
    told = hashlib.sha256(f"{image.dtype.name} {image.shape}".encode())
    told.update(np.ascontiguousarray(image).data)
    return told.digest()


def _width(port: ServerPort) -> int | None:
    """How many scores an output gives for each image; None where it does not say."""
    long = [n for n in port.shape[1:] if n != 1]
    return 1 if not long and len(port.shape) > 1 else long[0] if len(long) == 1 else None


@dataclass(frozen=True)
class ServiceTrial:
    """One image tried: the request and the answer as they may be shown, the row of scores, or why there is none."""

    request: str
    answer: str
    row: NDArray[np.float32] | None
    problem: str


def _tried(model: ServiceModel, file: PictureFile) -> ServiceTrial:
    model.may_send(1)
    content, headers = model.speaks.request([model.payload(file)])
    description = model.description
    shown = [f"POST {model.speaks.url}"]
    if description.key is not None:
        shown.append(f"{description.key.header}: {f'{description.key.scheme} '.lstrip()}•••")
    shown += [f"{name}: {value}" for name, value in {**description.request.headers, **headers}.items()]
    request = "\n".join([*shown, "", model.client.shown(content)])
    came: list[str] = []

    def read(answer: Any) -> NDArray[np.float32]:
        came.append(model.client.shown(answer.body))
        return model.speaks.rows(answer, 1)[0]

    try:
        row = model.client.post(model.speaks.url, content, headers, read).result()
        return ServiceTrial(request, came[-1], row[0], "")
    except (Refused, BadAnswer, NoAnswer) as error:
        return ServiceTrial(request, came[-1] if came else str(error), None, str(error))


def _load(path: Path, classes: Sequence[str], recipe: Recipe | None, _threads: int) -> ServiceModel:
    return ServiceModel(path, classes, recipe)


SERVICE = ModelKind(
    "service",
    "a prediction service",
    frozenset({ENDING}),
    Capabilities(True, False, False, asked=True),
    _load,
    "the service at this address tells another model or version than this run was scored with",
)
