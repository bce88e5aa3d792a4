"""How a set's picture is written: format, colour, size, what goes with it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from windfell.recipe.limits import Unknown, number


class Format(StrEnum):
    TIFF = "tiff"
    PNG = "png"
    JPEG = "jpeg"
    JXL = "jxl"
    WEBP = "webp"
    AVIF = "avif"
    HEIF = "heif"
    EXR = "exr"
    HDR = "hdr"
    DNG = "dng"
    ORA = "ora"
    HTML = "html"


class Compression(StrEnum):
    NONE = "none"
    DEFLATE = "deflate"
    LZW = "lzw"
    ZSTD = "zstd"


class ColourSpace(StrEnum):
    SRGB = "srgb"
    DISPLAY_P3 = "display-p3"
    REC2020 = "rec2020"
    ROMM = "romm"
    OPRGB = "oprgb"


class Intent(StrEnum):
    """How colours beyond a profile's gamut are brought into it (ICC.1:2022, 6.2)."""

    PERCEPTUAL = "perceptual"
    RELATIVE = "relative"
    SATURATION = "saturation"
    ABSOLUTE = "absolute"


@dataclass(frozen=True)
class Words:
    """What is written into the file in words; `location`: where the frames were taken is kept."""

    creator: str = ""
    rights: str = ""
    title: str = ""
    caption: str = ""
    keywords: tuple[str, ...] = ()
    location: bool = False
    unknown: Unknown = ()


@dataclass(frozen=True)
class Output:
    """`profile`: the path of an ICC profile that stands in for the space. `tiled`: TIFF in tiles with smaller copies.
    `layered`: each frame in place with its own mask beside the whole (TIFF; OpenRaster always is). `most_kb`: quality
    is lowered until the file is not larger. `dpi`: px per inch said in the file. `sharpen_pct`: for the written size.
    """

    format: Format = Format.TIFF
    depth: int = number(16, 8, 32, "bit")
    compression: Compression = Compression.NONE
    quality: int = number(92, 1, 100, "%")
    space: ColourSpace = ColourSpace.SRGB
    width_px: int | None = number(None, 16, 300_000, "px")
    height_px: int | None = number(None, 16, 300_000, "px")
    scale_pct: float | None = number(None, 0.1, 400.0, "%")
    megapixels: float | None = number(None, 0.001, 20_000.0, "MP")
    long_px: int | None = number(None, 16, 300_000, "px")
    print_mm: float | None = number(None, 5.0, 100_000.0, "mm")
    dpi: float | None = number(None, 10.0, 2400.0, "px/in")
    profile: str | None = None
    intent: Intent = Intent.RELATIVE
    dither: bool = False
    tiled: bool = False
    layered: bool = False
    progressive: bool = False
    full_chroma: bool | None = None
    most_kb: int | None = number(None, 4, 4_000_000, "kB")
    sharpen_pct: float = number(0.0, 0.0, 100.0, "%")
    words: Words = Words()
    unknown: Unknown = ()
