"""Simulated tape-less camcorders of six more kinds: trees, names and index files as such cameras write them.

The index files hold what a reader needs: names, serial numbers, which tracks there are. Their elements are common
practice, no source.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from diadoche.demo.movies import H264, MAKER, Make, SmallCopy, set_time, write_movie, write_sound
from diadoche.demo.recording import Recording
from diadoche.demo.stills import write_still
from diadoche.demo.tape import stamped

_FIELDS = {"flags": "+ildct+ilme+bitexact", "g": "12", "bf": "2"}
_MXF = Make(
    "mxf", "mpeg2video", "pcm_s16le", "yuv422p", _FIELDS, audio_samples=1920, audio_format="s16", bit_rate=50_000_000
)
_ATOM = Make("mxf_opatom", "dnxhd", "", "yuv422p", {"b": "120000000"}, bit_rate=120_000_000)
_PROGRAMME = Make(
    "vob",
    "mpeg2video",
    "ac3",
    "yuv420p",
    _FIELDS,
    audio_samples=1536,
    pixel_aspect=Fraction(64, 45),
    bit_rate=8_000_000,
)
_DV = Make("avi", "dvvideo", "pcm_s16le", "yuv420p", audio_samples=1920, audio_format="s16", stamp=stamped)
_QUICKTIME = Make(
    "mov",
    "mpeg2video",
    "pcm_s16le",
    "yuv422p",
    _FIELDS,
    {"movflags": "+use_metadata_tags"},
    audio_samples=1920,
    audio_format="s16",
    bit_rate=35_000_000,
)
_THUMBNAIL_PX = (480, 270)


def _metadata(path: Path, recording: Recording, model: str, serial: str) -> None:
    path.write_text(
        f'<?xml version="1.0" encoding="UTF-8"?>\n<Recording created="{recording.start.isoformat()}">\n'
        f'  <Device manufacturer="{MAKER}" modelName="{model}" serialNo="{serial}"/>\n</Recording>\n',
        "utf-8",
    )
    set_time(path, recording)


def _clip_list(path: Path, names: Sequence[str]) -> None:
    items = "".join(f'  <Material uri="{name}"/>\n' for name in names)
    path.write_text(f'<?xml version="1.0" encoding="UTF-8"?>\n<Contents>\n{items}</Contents>\n', "utf-8")


def write_m4root(root: Path, recordings: Sequence[Recording], model: str, serial: str) -> None:
    """An MP4 camcorder: clips under PRIVATE/M4ROOT/CLIP, small copies under SUB, thumbnails under THMBNL."""
    tree = root / "PRIVATE" / "M4ROOT"
    for folder in ("CLIP", "SUB", "THMBNL", "GENERAL"):
        (tree / folder).mkdir(parents=True)
    names = []
    for number, recording in enumerate(recordings, start=1):
        name = f"C{number:04}"
        names.append(f"./CLIP/{name}.MP4")
        small = SmallCopy(tree / "SUB" / f"{name}S03.MP4")
        write_movie(tree / "CLIP" / f"{name}.MP4", [recording], H264, model, small=small)
        _metadata(tree / "CLIP" / f"{name}M01.XML", recording, model, serial)
        thumbnail = replace(recording.camera, width_px=_THUMBNAIL_PX[0], height_px=_THUMBNAIL_PX[1])
        write_still(tree / "THMBNL" / f"{name}T01.JPG", thumbnail, recording.scene_start_s)
    _clip_list(tree / "MEDIAPRO.XML", names)


def write_xdroot(root: Path, recordings: Sequence[Recording], model: str, serial: str) -> None:
    """An MXF camcorder with whole clips: interlaced long-GOP MPEG-2, 4:2:2, under XDROOT/Clip."""
    tree = root / "XDROOT"
    for folder in ("Clip", "Sub", "Thmbnl", "General"):
        (tree / folder).mkdir(parents=True)
    names = []
    for number, recording in enumerate(recordings, start=1):
        name = f"Clip{number:04}"
        names.append(f"./Clip/{name}.MXF")
        write_movie(tree / "Clip" / f"{name}.MXF", [recording], _MXF, model)
        _metadata(tree / "Clip" / f"{name}M01.XML", recording, model, serial)
    _clip_list(tree / "MEDIAPRO.XML", names)


def write_contents(root: Path, recordings: Sequence[Recording], model: str, serial: str) -> None:
    """An MXF camcorder with a file for every track, and an XML file that says which belong together."""
    tree = root / "CONTENTS"
    for folder in ("AUDIO", "CLIP", "ICON", "PROXY", "VIDEO", "VOICE"):
        (tree / folder).mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        name = f"{number:04}TR"
        write_movie(tree / "VIDEO" / f"{name}.MXF", [recording], _ATOM, model)
        for channel in range(2):
            write_sound(tree / "AUDIO" / f"{name}{channel:02}.MXF", recording, "mxf_opatom")
        sounds = "      <Audio><AudioFormat>MXF</AudioFormat></Audio>\n" * 2
        (tree / "CLIP" / f"{name}.XML").write_text(
            '<?xml version="1.0" encoding="UTF-8"?>\n<Main>\n  <ClipContent>\n'
            f"    <ClipName>{name}</ClipName>\n    <EssenceList>\n"
            "      <Video><VideoFormat>MXF</VideoFormat></Video>\n"
            f'{sounds}    </EssenceList>\n    <Device Manufacturer="{MAKER}" SerialNo="{serial}"/>\n'
            "  </ClipContent>\n</Main>\n",
            "utf-8",
        )
    (root / "LASTCLIP.TXT").write_text(f"{len(recordings):04}TR\n", "ascii")


def write_sd_video(root: Path, recordings: Sequence[Recording]) -> None:
    """A camcorder that records MPEG programme streams, wide pictures in 720 columns."""
    folder = root / "SD_VIDEO" / "PRG001"
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        write_movie(folder / f"MOV{number:03X}.MOD", [recording], _PROGRAMME)
        start = recording.start
        size = (folder / f"MOV{number:03X}.MOD").stat().st_size
        date = (start.year, start.month, start.day, start.hour, start.minute, start.second * 1000)
        information = struct.pack(">2sIHBBBBH", b"V6", size, *date)
        (folder / f"MOV{number:03X}.MOI").write_bytes(information.ljust(128, b"\0"))
        set_time(folder / f"MOV{number:03X}.MOI", recording)
    (root / "SD_VIDEO" / "MGR_INFO.MGR").write_bytes(b"MGR".ljust(64, b"\0"))


def write_dv_avi(root: Path, recordings: Sequence[Recording]) -> None:
    """A recorder that keeps DV in AVI, bottom field first as DV always is."""
    for recording in recordings:
        write_movie(root / f"TAPE {recording.start:%Y-%m-%d %H-%M-%S}.AVI", [recording], _DV)


def write_quicktime(root: Path, recordings: Sequence[Recording], model: str) -> None:
    """A camcorder that keeps long-GOP MPEG-2 in QuickTime."""
    folder = root / "PRIVATE" / "HARBOUR" / "CLIP"
    folder.mkdir(parents=True)
    for number, recording in enumerate(recordings, start=1):
        write_movie(folder / f"HB{number:04}.MOV", [recording], _QUICKTIME, model)
