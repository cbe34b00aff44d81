"""The service description: where a prediction service is and how it is asked, as data (TOML, ``mivrat-service/1``)."""

from __future__ import annotations

import json
import re
import tomllib
from pathlib import Path
from typing import Annotated, Any, Literal
from urllib.parse import parse_qsl, urlsplit

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import read_text, write_whole
from mivrat.core.base.toml import toml_value

FORMAT = "mivrat-service/1"
ENDING = ".toml"
# A header or a part of an address that goes by such a name holds a key, and keys are not written down.
_SECRET = re.compile(r"auth|key|token|secret|passw|cookie|signature|^sig$|credential", re.I)
# Shorter texts under such a name are settings.
_LEAST_KEY = 8
_HEADER = re.compile(r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")
_MODEL = re.compile(r"^(?P<root>.*)/v2/models/(?P<name>[^/]+)(?:/versions/(?P<version>[^/]+))?(?:/infer)?/?$")
Pointer = Annotated[str, Field(pattern=r"^(/.*)?$", max_length=400)]
Send = Literal["open-inference", "json", "multipart", "body"]
Encoding = Literal["jpeg", "png", "original", "tensor"]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Request(BaseModel):
    """The rest of the request: ``headers``, and every further entry as a field of the JSON body or of the form."""

    model_config = ConfigDict(extra="allow", frozen=True, allow_inf_nan=False)
    headers: dict[str, str] = {}

    @field_validator("headers")
    @classmethod
    def _no_keys(cls, headers: dict[str, str]) -> dict[str, str]:
        for name, value in headers.items():
            if _SECRET.search(name):
                raise ValueError(f"the header {name!r} would hold a key: name it under [key], and leave its value out")
            if not _HEADER.match(name) or not value.isprintable() or not value.isascii():
                raise ValueError(f"{name!r} cannot be a header")
        return headers

    @model_validator(mode="after")
    def _fields_can_be_sent(self) -> Request:
        if (name := _key_in(self.fields)) is not None:
            raise ValueError(f"{name!r} would hold a key: keys are named under [key], not written down")
        try:
            json.dumps(self.fields)
        except (TypeError, ValueError) as error:
            raise ValueError("holds what JSON cannot say (a date?)") from error
        return self

    @property
    def fields(self) -> dict[str, Any]:
        return dict(self.__pydantic_extra__ or {})


def _key_in(fields: Any) -> str | None:
    """The name of a field, at whatever depth, that looks as if a key were written into it."""
    if isinstance(fields, list):
        return next((found for one in fields if (found := _key_in(one)) is not None), None)
    for name, value in fields.items() if isinstance(fields, dict) else ():
        if isinstance(value, str) and len(value) >= _LEAST_KEY and _SECRET.search(name):
            return str(name)
        if (found := _key_in(value)) is not None:
            return found
    return None


class Key(_Part):
    """Where the key comes from. ``scheme`` is put before it, such as ``Bearer``."""

    header: Annotated[str, Field(pattern=_HEADER.pattern)] = "Authorization"
    environment: Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")] = "MIVRAT_SERVICE_KEY"
    scheme: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]*$")] = ""


class Response(_Part):
    """Where the scores stand in the answer: an array in class order, or a list of objects with ``label`` and ``score``."""

    scores: Pointer | None = None
    pairs: Pointer | None = None
    label: Pointer = "/label"
    score: Pointer = "/score"
    kind: Literal["auto", "logits", "probabilities", "sigmoid"] = "auto"


class Limits(_Part):
    """How much may be asked: requests ``at_once`` and ``per_second`` (none: as fast as they are answered), seconds until one
    has to be answered, images in one request (of the open protocol)."""

    at_once: Annotated[int, Field(ge=1, le=256)] = 4
    per_second: Annotated[float, Field(gt=0, le=100_000)] | None = None
    timeout: Annotated[float, Field(gt=0, le=3600)] = 30.0
    per_request: Annotated[int, Field(ge=1, le=1024)] = 1


class Description(_Part):
    """A prediction service as it is asked."""

    format: Literal["mivrat-service/1"] = "mivrat-service/1"
    url: Annotated[str, Field(max_length=2000)]
    send: Send = "json"
    image: str = "/image"
    encoding: Encoding | None = None
    request: Request = Request()
    key: Key | None = None
    response: Response = Response()
    limits: Limits = Limits()

    @field_validator("url")
    @classmethod
    def _an_address(cls, url: str) -> str:
        try:
            parts = urlsplit(url)
            host, _ = parts.hostname, parts.port
        except ValueError as error:
            raise ValueError(f"{url!r} is not a service address ({error})") from error
        if (
            parts.scheme not in ("http", "https")
            or not host
            or not url.isascii()
            or not url.isprintable()
            or " " in url
        ):
            raise ValueError(f"{url!r} is not a service address: it must begin with https:// or http://")
        if parts.username is not None or parts.password is not None:
            raise ValueError("the address holds a name or password: keys are named under [key], not written down")
        if any(_SECRET.search(name) for name, _ in parse_qsl(parts.query, keep_blank_values=True)):
            raise ValueError("the address holds a key: name it under [key], and leave its value out")
        return url.partition("#")[0]

    @model_validator(mode="after")
    def _goes_together(self) -> Description:
        if self.send == "open-inference":
            if not _MODEL.match(urlsplit(self.url).path):
                raise ValueError("the address of the open protocol names a model: https://host/v2/models/NAME")
            return self
        if (self.response.scores is None) == (self.response.pairs is None):
            raise ValueError("under [response], give scores (an array in class order) or pairs (a list of objects)")
        if self.encoding == "tensor" and self.send != "json":
            raise ValueError("encoding 'tensor' goes with send 'open-inference' or 'json'")
        if self.send == "json" and not self.image.startswith("/"):
            raise ValueError("image is a JSON Pointer, which begins with /")
        return self

    @property
    def host(self) -> str:
        """Host and port."""
        return host_and_port(self.url)

    @property
    def address(self) -> str:
        """Scheme, host and port."""
        return f"{urlsplit(self.url).scheme}://{self.host}"

    @property
    def encrypted(self) -> bool:
        return urlsplit(self.url).scheme == "https"

    @property
    def name(self) -> str:
        """What the service goes by: its model's name, else the last part of its address, else its host."""
        path = urlsplit(self.url).path
        if (found := _MODEL.match(path)) and self.send == "open-inference":
            return found["name"]
        return path.rstrip("/").rpartition("/")[2] or (urlsplit(self.url).hostname or "service")

    def parts(self) -> tuple[str, str, str]:
        """Of the open protocol: the server's root, the model's name, and its version (empty: none was named)."""
        whole = urlsplit(self.url)
        found = _MODEL.match(whole.path)
        assert found is not None
        return f"{whole.scheme}://{whole.netloc}{found['root']}", found["name"], found["version"] or ""


def host_and_port(url: str) -> str:
    """Host and port of an address, the usual port where it names none. Raises ValueError where it is none."""
    parts = urlsplit(url)
    port = parts.port or (80 if parts.scheme == "http" else 443)
    if not parts.hostname:
        raise ValueError("no host")
    return f"{parts.hostname}:{port}"


def is_address(text: str) -> bool:
    """Whether a text names a service by its address."""
    return text.startswith(("https://", "http://"))


def is_description(path: Path) -> bool:
    """Whether a file begins as a service description does."""
    try:
        return FORMAT in read_text(path, "a service description", "")[:2000]
    except InputError:
        return False


def describe_address(address: str) -> Description:
    """The service at an address of the open protocol. Raises InputError where it is none."""
    return description_from({"format": FORMAT, "url": address, "send": "open-inference"}, address)


def parse_description(text: str, where: object = "service") -> Description:
    """A description from TOML text. Raises InputError naming the entry that is wrong."""
    try:
        data = tomllib.loads(text)
    except RecursionError as error:
        raise InputError("is nested too deep", where=where, hint="write entries as in docs/services.md") from error
    except ValueError as error:
        raise InputError(f"is not valid TOML ({str(error)[:160]})", where=where, hint="correct that line") from error
    if data.get("format") != FORMAT:
        raise InputError(
            f"has format {str(data.get('format'))[:40]!r}",
            where=where,
            hint=f'begin the service description with format = "{FORMAT}"',
        )
    return description_from(data, where)


def description_from(data: dict[str, Any], where: object = "service") -> Description:
    """A description from its entries. Raises InputError naming the entry that is wrong; what was given is not repeated, as it may be a key."""
    try:
        return Description.model_validate(data)
    except ValidationError as error:
        first = error.errors(include_input=False)[0]
        entry = ".".join(str(part) for part in first["loc"]) or "the description"
        message = first["msg"].removeprefix("Value error, ")
        raise InputError(
            f"{entry}: {message[:1].lower()}{message[1:]}",
            where=where,
            hint="see docs/services.md for what each entry may hold",
        ) from None


def read_description(path: Path) -> Description:
    """Read a description file. Raises InputError."""
    return parse_description(read_text(path, "the service description", "name a service description (TOML)"), path)


def to_toml(description: Description) -> str:
    """The description as TOML text; parse_description gives it back."""
    plain, tables = [], []
    for name, value in description.model_dump(exclude_none=True).items():
        if isinstance(value, dict):
            if value != type(getattr(description, name))().model_dump(exclude_none=True) or name in ("key", "limits"):
                tables += ["", f"[{name}]", *(f"{key} = {toml_value(one)}" for key, one in value.items())]
        else:
            plain.append(f"{name} = {toml_value(value)}")
    return "\n".join([*plain, *tables]) + "\n"


def write_description(description: Description, folder: Path) -> Path:
    """Keep a description as a file in a folder, under the service's name; one that is there already with the same content is
    taken. Raises InputError where it cannot be written."""
    text = to_toml(description)
    stem = re.sub(r"[^\w.-]", "_", description.name)[:60].lstrip(".") or "service"
    for number in range(1, 10_000):
        path = folder / f"{stem}{'' if number == 1 else f'-{number}'}.service{ENDING}"
        if not path.exists():
            write_whole(path, text)
            return path
        try:
            if read_description(path) == description:
                return path
        except InputError:
            continue
    raise InputError("holds too many service descriptions", where=folder, hint="name another folder")
