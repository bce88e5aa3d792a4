"""Short videos of the demo: encoded frames in a file, with a time of making."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from windfell.later import Later

av = Later("av")


def write_video(
    path: Path, pictures: Iterable[NDArray[np.uint8]], rate: int, taken: datetime | None = None
) -> None:
    """An H.264 video (BT.709, 8 bit) of sRGB pictures (h, w, 3), even sides."""
    options = {"movflags": "use_metadata_tags+faststart"}
    with av.open(str(path), "w", options=options) as container:
        if taken is not None:
            container.metadata["creation_time"] = taken.strftime("%Y-%m-%dT%H:%M:%S.000000Z")
        stream = None
        for n, picture in enumerate(pictures):
            if stream is None:
                stream = container.add_stream("libx264", rate=rate, options={"crf": "21", "preset": "fast"})
                stream.height, stream.width = picture.shape[:2]
                stream.pix_fmt = "yuv420p"
                stream.codec_context.time_base = Fraction(1, rate)
                stream.codec_context.colorspace = 1
                stream.codec_context.color_range = 1
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24").reformat(
                format="yuv420p", dst_colorspace="ITU709")
            frame.pts, frame.time_base = n, Fraction(1, rate)
            container.mux(stream.encode(frame))
        if stream is not None:
            container.mux(stream.encode())
