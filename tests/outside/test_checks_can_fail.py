"""The check of an output, held against outputs that are wrong by little."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from diadoche.core.convert.check import Expected, ExpectedSound
from diadoche.core.convert.examine import examine
from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.signature import picture_digest, signature_of
from diadoche.core.convert.sound import SoundEnvelope
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import RATE_HZ, clicks, ffmpeg, film


def test_one_sample_of_one_picture_is_found_where_pictures_come_back_to_the_bit(tmp_path: Path) -> None:
    path = film(tmp_path / "in.mkv", range(10), "25", "-c:v", "ffv1", sound=False)
    right, wrong = Expected(Fraction(25)), Expected(Fraction(25))
    with av.open(str(path)) as media:
        for number, frame in enumerate(media.decode(media.streams.video[0])):
            for each in (right, wrong):
                if each is wrong and number == 7:
                    plane = frame.planes[0]
                    changed = bytearray(bytes(plane))
                    changed[plane.line_size * 90 + 11] ^= 1
                    plane.update(bytes(changed))
                each.signatures.append(signature_of(frame))
                each.digests.append(picture_digest(frame))
    assert examine(path, right, Watch())[0].passed
    checks, findings = examine(path, wrong, Watch())
    assert not checks.decodes
    assert [(each.kind, each.picture) for each in findings] == [("changed", 7)]


def test_lossy_sound_that_is_late_silent_or_short_is_found(tmp_path: Path) -> None:
    (tmp_path / "clicks.s16").write_bytes(clicks(4.0))
    path = tmp_path / "in.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=r=25:d=4:s=320x180", "-f", "s16le", "-ar", str(RATE_HZ), "-ac", "1", "-i",
           tmp_path / "clicks.s16", "-c:v", "libx264", "-bf", "0", "-c:a", "aac", "-b:a", "128k", path)  # fmt: skip
    samples = np.frombuffer(clicks(4.0), "<i2").reshape(1, -1)

    def in_step(heard: np.ndarray) -> bool:
        expected = Expected(Fraction(25))
        envelope = SoundEnvelope(RATE_HZ, 1)
        envelope.take(heard)
        expected.sounds.append(ExpectedSound(envelope.value(), 0, RATE_HZ, 1))
        return examine(path, expected, Watch())[0].sync

    assert in_step(samples)
    assert not in_step(np.roll(samples, RATE_HZ // 5))
    assert not in_step(np.zeros_like(samples))
    assert not in_step(samples[:, : RATE_HZ * 3])
    assert not in_step(np.concatenate([samples, samples[:, :RATE_HZ]], axis=1))


def test_a_part_before_a_change_of_size_is_made_and_nothing_after_it_is_scaled(tmp_path: Path) -> None:
    pieces = [
        ffmpeg("-f", "lavfi", "-i", f"testsrc2=r=25:d=2:s={size}", "-c:v", "libx264", "-bf", "0", "-output_ts_offset", offset, "-f", "mpegts", "-")
        for size, offset in (("320x180", "0"), ("640x360", "2"))
    ]  # fmt: skip
    source = tmp_path / "in.ts"
    source.write_bytes(b"".join(pieces))

    def part(first: str, end: str) -> Output:
        return perform_make(MakeRequest((source,), recipes()["vc3-hqx"], tmp_path / "out", marks=(first, end)), Watch())

    before, after = part("10", "40"), part("60", "80")
    assert before.frames_out == 30, before
    assert not after.output
    assert "changes from 320×180 to 640×360" in after.problems[-1].what
