"""Rates, timecode, sizes and names as plain values."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from diadoche.core.coder_threads import threads_for
from diadoche.core.names import fits_xml, safe_name, shown, unique_name
from diadoche.core.rates import STANDARD_RATES, nearest_standard, parse_rate, rate_text, spoken_rate
from diadoche.core.sizes import clock_text, count_text, size_text, wait_text
from diadoche.core.timecode import Timecode, frames_a_day

NTSC = Fraction(30000, 1001)


@pytest.mark.parametrize(
    ("label", "frame"),
    [
        # SMPTE ST 12-1: the first minute drops labels 0 and 1; ten minutes hold 17,982 frames.
        ("00:01:00;02", 1800),
        ("00:10:00;00", 17_982),
        ("23:59:59;29", 2_589_407),
        ("00:00:59;29", 1799),
    ],
)
def test_drop_frame_labels(label: str, frame: int) -> None:
    assert Timecode.parse(label, NTSC).frame == frame
    assert str(Timecode(frame, NTSC, drop=True)) == label


@pytest.mark.parametrize(
    "label", ["00:01:00;00", "10:41:00;00", "00:59:00;01", "24:00:00;00", "00:00:60:00", "0:0:0:0"]
)
def test_labels_that_do_not_exist_are_refused(label: str) -> None:
    with pytest.raises(ValueError, match=label[:5]):
        Timecode.parse(label, NTSC)


@given(st.integers(0, 2_589_407))
def test_drop_frame_there_and_back(frame: int) -> None:
    label = str(Timecode(frame, NTSC, drop=True))
    assert Timecode.parse(label, NTSC).frame == frame


@given(st.integers(0, 5_183_999), st.sampled_from([Fraction(25), Fraction(24), Fraction(50), Fraction(60000, 1001)]))
def test_whole_count_there_and_back(frame: int, rate: Fraction) -> None:
    frame %= frames_a_day(rate, drop=False)
    assert Timecode.parse(str(Timecode(frame, rate)), rate).frame == frame


def test_midnight_wraps() -> None:
    assert str(Timecode.parse("23:59:59:24", Fraction(25)).plus(1)) == "00:00:00:00"


def test_drop_frame_is_refused_at_25() -> None:
    with pytest.raises(ValueError, match="drop"):
        Timecode(0, Fraction(25), drop=True)


def test_rates_stay_exact() -> None:
    assert rate_text(parse_rate("30000/1001")) == "30000/1001"
    assert rate_text(parse_rate("25")) == "25/1"
    with pytest.raises(ValueError, match="rate"):
        parse_rate("-1")


@pytest.mark.parametrize("rate", STANDARD_RATES)
def test_a_millisecond_clock_still_tells_standard_rates_apart(rate: Fraction) -> None:
    # Ten seconds of frames, timed by a clock of 90 kHz.
    frames = round(10 * rate)
    ticks = round(frames / rate * 90_000)
    assert nearest_standard(Fraction(frames * 90_000, ticks)) == rate


def test_an_odd_rate_is_left_alone() -> None:
    assert nearest_standard(Fraction(17)) == Fraction(17)


def test_spoken() -> None:
    assert [spoken_rate(rate) for rate in (NTSC, Fraction(24000, 1001), Fraction(25))] == ["29.97", "23.976", "25"]
    assert size_text(31_200_000_000) == "31.2 GB"
    assert size_text(1) == "1 byte"
    assert clock_text(3723) == "1:02:03"
    assert wait_text(360) == "about 6 min"
    assert count_text(1, "clip") == "1 clip"
    assert count_text(12_000, "file") == "12,000 files"


@given(st.text())
def test_a_safe_name_is_one_name(text: str) -> None:
    name = safe_name(text)
    assert name
    assert "/" not in name
    assert "\0" not in name
    assert len(name.encode("utf-8", "surrogateescape")) <= 255
    assert name == name.strip(" .")


def test_unique_names_count_up() -> None:
    taken = {"a.mov", "a (2).mov"}
    assert unique_name("a.mov", taken.__contains__) == "a (3).mov"
    assert unique_name("b.mov", taken.__contains__) == "b.mov"
    assert unique_name(".hidden", {".hidden"}.__contains__) == ".hidden (2)"


def test_names_that_are_no_text_are_shown_escaped() -> None:
    assert shown("a\udcffb\n") == "a\\xffb\\n"
    assert not fits_xml("a\udcff")
    assert not fits_xml("a\x01")
    assert fits_xml("ü 😀")


@pytest.mark.parametrize("memory_gb", [4, 16, 64, 512])
def test_an_encoder_of_large_pictures_never_holds_much_however_much_there_is(
    memory_gb: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    pages = {"SC_PHYS_PAGES": memory_gb * 10**9 // 4096, "SC_PAGE_SIZE": 4096}
    monkeypatch.setattr("os.sysconf", pages.__getitem__)
    # Both eyes at 7680×7680, 4:2:2 at 10 bits: a second thread would take 1.5 GB more.
    assert threads_for(7680 * 7680 * 4, encoder=True) == 1
    assert threads_for(1920 * 1080 * 4, encoder=True) >= (6 if memory_gb < 16 else 16)
