"""The pages of a PDF as pictures."""

from __future__ import annotations

import threading
from typing import Any

import numpy as np

from mivrat.core.pictures.decode import Pixels

# The library that draws pages may be used by one thread at a time.
_LOCK = threading.Lock()


def count_pages(pdf: bytes) -> int:
    """How many pages a PDF has."""
    import pypdfium2

    with _LOCK:
        document = pypdfium2.PdfDocument(pdf)
        try:
            return len(document)
        finally:
            document.close()


def draw_page(pdf: bytes, number: int, width: int) -> Pixels:
    """One page, from 0, so many pixels wide (height x width x 3, RGB)."""
    import pypdfium2

    with _LOCK:
        document: Any = pypdfium2.PdfDocument(pdf)
        try:
            page = document[number]
            drawn = page.render(scale=width / page.get_width(), rev_byteorder=True).to_numpy()
            return np.ascontiguousarray(drawn[..., :3])
        finally:
            document.close()
