"""Still pictures of the scene, as JPEG."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av

from diadoche.demo.scene import Camera, View


def write_still(path: Path, camera: Camera, time_s: Fraction) -> None:
    """Writes what a camera sees at one moment."""
    luma, blue, red = View(camera).at(time_s, 0)
    frame = av.VideoFrame(camera.width_px, camera.height_px, "yuvj420p")
    for plane, data in zip(frame.planes, (luma, blue, red), strict=True):
        rows = bytearray(plane.buffer_size)
        for line in range(data.shape[0]):
            rows[line * plane.line_size : line * plane.line_size + data.shape[1]] = data[line].tobytes()
        plane.update(bytes(rows))
    with av.open(str(path), "w", format="image2", options={"update": "1"}) as still:
        stream = still.add_stream("mjpeg", rate=1)
        stream.width, stream.height, stream.pix_fmt = camera.width_px, camera.height_px, "yuvj420p"
        stream.codec_context.qmin = stream.codec_context.qmax = 3
        still.mux(stream.encode(frame))
        still.mux(stream.encode(None))
