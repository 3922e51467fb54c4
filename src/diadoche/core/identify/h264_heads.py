"""What the heads of an H.264 stream say that pictures are paired and ordered by.

Source: [H264] ITU-T H.264 (08/2021), 7.3.2.1 (sequence parameter set), 7.3.3 (slice header), 9.1 (numbers of variable
length).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from diadoche.core.identify.units import START_CODE, split_units, unit_bounds, unit_length_bytes

_SLICES, _ANEW, _SEQUENCE = (1, 5), 5, 7
# Profiles whose parameter sets tell chroma and depth [H264, 7.3.2.1.1].
_HIGH_PROFILES = {100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135}
# Parameter sets and the head of the first slice stand in front of a packet.
_FRONT_BYTES = 2048
# Of a slice: far more than the numbers that are read there take.
_HEAD_BYTES = 32


class _Bits:
    """Reads bits of a unit, and the numbers of variable length that heads are written in [H264, 9.1]."""

    def __init__(self, unit: bytes) -> None:
        data = unit.replace(b"\x00\x00\x03", b"\x00\x00")
        self._value = int.from_bytes(data, "big")
        self._left = len(data) * 8

    def take(self, count: int) -> int:
        """The next bits as a number.

        Raises:
            ValueError: the unit ends before.
        """
        if count > self._left:
            raise ValueError("the unit ends too early")
        self._left -= count
        return self._value >> self._left & ((1 << count) - 1)

    def number(self) -> int:
        """The next number of variable length, ue(v); for se(v) its code."""
        zeros = self._left - (self._value & ((1 << self._left) - 1)).bit_length()
        if zeros > 32:
            raise ValueError("no number")
        self.take(zeros)
        return self.take(zeros + 1) - 1


@dataclass(frozen=True, slots=True)
class SequenceSet:
    """What of a sequence parameter set slice headers are read by.

    `order_kind` tells how the order of showing is coded [8.2.1]: 0 by a number in each slice, of `order_bits`; 2 as the
    order of coding.
    """

    frame_number_bits: int
    planes_apart: bool
    only_frames: bool
    order_kind: int
    order_bits: int


@dataclass(frozen=True, slots=True)
class SliceHead:
    """What the head of a slice says of its picture.

    `begins_anew`: nothing from there on rests on what came before; `order_low`: the low bits of its place in the order
    of showing.
    """

    frame_number: int
    is_field: bool
    is_bottom: bool
    begins_anew: bool
    is_reference: bool
    order_low: int


class SliceHeads:
    """Takes the packets of one H.264 track in the order of the file, and reads the head of the first slice of each."""

    def __init__(self, extradata: bytes | None) -> None:
        """`extradata`: the track's own head; parameter sets among the packets count too."""
        self._length_bytes = unit_length_bytes("h264", extradata)
        self._sequence_unit = b""
        # The parameter set in force.
        self.sequence: SequenceSet | None = None
        if extradata:
            for unit in _sets_of(extradata):
                self._note_sequence(unit)

    def of(self, packet: bytes | memoryview) -> SliceHead | None:
        """The head of a packet's first slice; None where it has none, or one that cannot be read."""
        # Nobody needs to look for where the slice ends.
        found, head = self._first_slice(bytes(packet[:_FRONT_BYTES]))
        if not found and len(packet) > _FRONT_BYTES:
            _found, head = self._first_slice(bytes(packet))
        return head

    def _first_slice(self, data: bytes) -> tuple[bool, SliceHead | None]:
        """Whether there is a slice, and its head."""
        for begin, end in unit_bounds(data, self._length_bytes) if self._length_bytes else _units_in_front(data):
            kind = data[begin] & 0x1F
            if kind in _SLICES:
                return True, self._head_of(data[begin : begin + _HEAD_BYTES])
            if kind == _SEQUENCE:
                self._note_sequence(data[begin:end])
        return False, None

    def _note_sequence(self, unit: bytes) -> None:
        if unit == self._sequence_unit:
            return
        self._sequence_unit = unit
        try:
            self.sequence = _sequence_of(unit)
        except ValueError:
            self.sequence = None

    def _head_of(self, unit: bytes) -> SliceHead | None:
        sequence = self.sequence
        if sequence is None:
            return None
        begins_anew = unit[0] & 0x1F == _ANEW
        try:
            bits = _Bits(unit[1:])
            for _ in ("first macroblock", "slice type", "picture parameter set"):
                bits.number()
            if sequence.planes_apart:
                bits.take(2)
            frame_number = bits.take(sequence.frame_number_bits)
            is_field = not sequence.only_frames and bool(bits.take(1))
            is_bottom = is_field and bool(bits.take(1))
            if begins_anew:
                bits.number()
            order_low = bits.take(sequence.order_bits) if sequence.order_kind == 0 else 0
        except ValueError:
            return None
        return SliceHead(frame_number, is_field, is_bottom, begins_anew, bool(unit[0] & 0x60), order_low)


def _units_in_front(data: bytes) -> Iterator[tuple[int, int]]:
    """Where units behind start codes begin and end, found only as far as they are asked for."""
    begin = data.find(START_CODE) + len(START_CODE)
    while len(START_CODE) <= begin < len(data):
        following = data.find(START_CODE, begin)
        yield begin, following if following >= 0 else len(data)
        begin = following + len(START_CODE)


def _sets_of(extradata: bytes) -> list[bytes]:
    """The parameter sets of a track's head: after start codes, or counted and with lengths [14496-15, 5.3.3]."""
    if extradata[0] != 1:
        return [unit for unit in split_units(extradata, 0) if unit[0] & 0x1F == _SEQUENCE]
    found, place = [], 6
    for _ in range(extradata[5] & 0x1F if len(extradata) > 5 else 0):
        size = int.from_bytes(extradata[place : place + 2], "big")
        found.append(extradata[place + 2 : place + 2 + size])
        place += 2 + size
    return [unit for unit in found if unit]


def _sequence_of(unit: bytes) -> SequenceSet:
    bits = _Bits(unit[1:])
    profile = bits.take(8)
    bits.take(16)
    bits.number()
    planes_apart = False
    if profile in _HIGH_PROFILES:
        chroma = bits.number()
        planes_apart = bool(bits.take(1)) if chroma == 3 else False
        bits.number()
        bits.number()
        bits.take(1)
        if bits.take(1):
            for number in range(12 if chroma == 3 else 8):
                if bits.take(1):
                    _skip_scaling_list(bits, 16 if number < 6 else 64)
    frame_number_bits = bits.number() + 4
    kind, order_bits = bits.number(), 0
    if kind == 0:
        order_bits = bits.number() + 4
    elif kind == 1:
        bits.take(1)
        bits.number()
        bits.number()
        for _ in range(bits.number()):
            bits.number()
    bits.number()
    bits.take(1)
    bits.number()
    bits.number()
    return SequenceSet(frame_number_bits, planes_apart, bool(bits.take(1)), kind, order_bits)


def _skip_scaling_list(bits: _Bits, size: int) -> None:
    last, following = 8, 8
    for _ in range(size):
        if following:
            code = bits.number()
            following = (last + ((code + 1) // 2 if code % 2 else -(code // 2))) % 256
        last = following or last
