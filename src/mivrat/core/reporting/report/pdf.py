"""Lays a page of HTML out as a PDF, by WeasyPrint, in a process of its own."""

from __future__ import annotations

import logging
import subprocess
import sys
import tempfile
from contextlib import suppress
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.reporting.typeface import FONTS

_LOOK_EVERY = 0.05
_LACKING = 3


def as_pdf(html: str) -> bytes:
    """An ``on_paper`` page as a PDF with page numbers, contents and links. InputError where a system library is missing; a stop of
    the job in hand ends it with Stopped.

    In a process of its own: the library lets cut-off pictures pass as whole ones everywhere in the process that loads it, and laying
    out some hundred pages would keep the window from answering.
    """
    stop, command = current_stop(), [sys.executable, "-P", "-m", __name__]
    with tempfile.TemporaryFile() as page:  # a pipe would have to be filled and emptied at once
        page.write(html.encode("utf-8"))
        page.seek(0)
        with subprocess.Popen(command, stdin=page, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
            try:
                while True:
                    with suppress(subprocess.TimeoutExpired):
                        made, said = process.communicate(timeout=_LOOK_EVERY)
                        break
                    if stop.stopped:
                        raise Stopped
            finally:
                if process.poll() is None:
                    process.kill()
    if process.returncode == _LACKING:
        raise InputError(
            f"a PDF cannot be made: a system library is missing ({said.decode(errors='replace').strip()})",
            hint="install libpango-1.0-0 and libpangoft2-1.0-0, or write HTML instead",
        )
    if process.returncode:
        logging.getLogger(__name__).error("no PDF: %s", said.decode(errors="replace"))
        raise InputError("the PDF could not be made. The log has the details", hint="write HTML instead")
    return made


def _laid_out(html: str) -> bytes:
    import weasyprint
    from weasyprint.text.fonts import FontConfiguration
    from weasyprint.urls import URLFetcher

    for name in ("weasyprint", "fontTools", "fontTools.subset"):
        logging.getLogger(name).setLevel(logging.ERROR)

    class OnlyItsOwn(URLFetcher):  # type: ignore[misc]
        """Takes in data that stands in the page, and our own typeface; nothing else, from nowhere."""

        def fetch(self, url: str, headers: Any = None) -> Any:
            if not (url.startswith("data:") or url.startswith(FONTS.as_uri() + "/")):
                raise ValueError("a report takes nothing in from outside")
            return super().fetch(url, headers)

    made: bytes = weasyprint.HTML(string=html, url_fetcher=OnlyItsOwn()).write_pdf(
        font_config=FontConfiguration(), pdf_identifier=b"mivrat", optimize_images=False
    )
    return made


def main() -> int:
    """Read a page from standard input, write the PDF to standard output."""
    try:
        made = _laid_out(sys.stdin.buffer.read().decode("utf-8"))
    except OSError as error:
        print(error, file=sys.stderr)
        return _LACKING
    sys.stdout.buffer.write(made)
    return 0


if __name__ == "__main__":
    sys.exit(main())
