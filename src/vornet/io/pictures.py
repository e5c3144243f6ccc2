"""Pictures as they are kept: drawn anew, upright, without what a camera writes into them."""

from __future__ import annotations

import io

from vornet.core.errors import InputError
from vornet.io import apart

#: more points than any camera of the trade takes; beyond it a picture is refused before it is unpacked
MOST_POINTS = 40_000_000
FORMATS = ("JPEG", "PNG", "WEBP", "MPO", "TIFF")
MEMORY_MB, SECONDS = 500, 20
_NO_PICTURE = "is neither a PDF nor a picture (JPEG, PNG, WebP)"


def redrawn(content: bytes, longest: int = 2400) -> bytes:
    """A picture as a fresh JPEG without its metadata, upright, at most ``longest`` pixels a side, drawn in a process of its own.

    Raises InputError when it is not a picture, or has more than ``MOST_POINTS``.
    """
    _look(content)
    try:
        return apart.short(MEMORY_MB, SECONDS, draw, content, longest)
    except apart.Ended:
        raise InputError("file", "is a picture that takes too much memory to draw") from None


def _look(content: bytes) -> None:
    """Refuse by its heading what is no picture or too large a one; nothing is unpacked yet."""
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = None  # counted here, not warned of
    try:
        with Image.open(io.BytesIO(content)) as picture:
            width, height = picture.size
            known = picture.format in FORMATS
    except Exception:
        raise InputError("file", _NO_PICTURE) from None
    if not known:
        raise InputError("file", _NO_PICTURE)
    if width * height > MOST_POINTS:
        raise InputError("file", f"has {width:,} × {height:,} points: at most {MOST_POINTS // 1_000_000} million are taken")


def draw(content: bytes, longest: int) -> bytes:
    """The drawing itself. Raises InputError when it is not a picture."""
    from PIL import Image, ImageOps

    try:
        with Image.open(io.BytesIO(content)) as picture:
            picture.draft("RGB", (longest, longest))
            fresh = ImageOps.exif_transpose(picture).convert("RGB")
            fresh.thumbnail((longest, longest))
            fresh.info = {}  # a comment would be written again
            out = io.BytesIO()
            fresh.save(out, "JPEG", quality=82)
            return out.getvalue()
    except MemoryError:
        raise
    except Exception:
        raise InputError("file", _NO_PICTURE) from None
