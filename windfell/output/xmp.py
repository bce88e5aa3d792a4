"""XMP (ISO 16684-1) for what is written: words in Dublin Core, where a panorama lies on its sphere (GPano)."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from windfell.later import Later
from windfell.output.metadata import SOFTWARE, Carried

exiv2 = Later("exiv2")

GPANO = "http://ns.google.com/photos/1.0/panorama/"
OWN = "https://windfell.invalid/ns/1.0/"


def xmp_of(carried: Carried) -> bytes:
    """The XMP document of a result, UTF-8; empty if it would say nothing but the program."""
    values = {**_words(carried), **_frames(carried), **_sphere(carried), **_place(carried)}
    if not values:
        return b""
    exiv2.XmpProperties.registerNs(GPANO, "GPano")
    exiv2.XmpProperties.registerNs(OWN, "windfell")
    data = exiv2.XmpData()
    for key, value in {"Xmp.xmp.CreatorTool": SOFTWARE, **values}.items():
        if isinstance(value, tuple):
            data.add(exiv2.XmpKey(key), _array(key, value))
        else:
            data[key] = value
    flags = exiv2.XmpParser.XmpFormatFlags
    wrong, text = exiv2.XmpParser.encode(data, flags.omitPacketWrapper | flags.useCompactFormat)
    if wrong:
        raise ValueError("the XMP library cannot write these words")
    return text.encode()


def _array(key: str, values: tuple[str, ...]) -> Any:
    """Keywords in any order, creators in theirs."""
    found = exiv2.XmpArrayValue(exiv2.TypeId.xmpBag if key == "Xmp.dc.subject" else exiv2.TypeId.xmpSeq)
    for value in values:
        found.read(value)
    return found


def _words(carried: Carried) -> dict[str, Any]:
    w = carried.words
    found = {"Xmp.dc.title": w.title, "Xmp.dc.description": w.caption, "Xmp.dc.rights": w.rights,
             "Xmp.dc.creator": (w.creator,) if w.creator else (), "Xmp.dc.subject": w.keywords}
    return {k: v for k, v in found.items() if v}


def _frames(carried: Carried) -> dict[str, Any]:
    if carried.given < 2:
        return {}
    found: dict[str, Any] = {"Xmp.windfell.Frames": str(carried.used)}
    if carried.taken:
        found["Xmp.xmp.CreateDate"] = _date(carried.taken)
        found["Xmp.windfell.FirstFrame"] = _date(carried.taken)
    if carried.until:
        found["Xmp.windfell.LastFrame"] = _date(carried.until)
    return found


def _sphere(carried: Carried) -> dict[str, Any]:
    """What viewers of spheres read."""
    p = carried.pano
    if p is None:
        return {}
    found = {"ProjectionType": "equirectangular", "UsePanoramaViewer": "True",
             "FullPanoWidthPixels": p.full_width, "FullPanoHeightPixels": p.full_height,
             "CroppedAreaLeftPixels": p.left, "CroppedAreaTopPixels": p.top, "SourcePhotosCount": carried.used}
    if p.heading_deg is not None:
        found["PoseHeadingDegrees"] = f"{p.heading_deg % 360:.2f}"
    if carried.taken:
        found["FirstPhotoDate"] = _date(carried.taken)
    if carried.until:
        found["LastPhotoDate"] = _date(carried.until)
    return {f"Xmp.GPano.{k}": str(v) for k, v in found.items()}


def _place(carried: Carried) -> dict[str, Any]:
    if carried.gps is None:
        return {}
    return {f"Xmp.exif.GPS{name}": f"{int(abs(v))},{abs(v) % 1 * 60:.6f}{words[v < 0]}" for name, v, words in (
        ("Latitude", carried.gps[0], "NS"), ("Longitude", carried.gps[1], "EW"))}


def _date(time: datetime) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%S")
