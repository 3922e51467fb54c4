"""Field-coded H.264: which packets are the second field of a picture whose first came just before.

Camcorders write each field as an access unit of its own; decoders give one picture for two of them. Source: [H264]
ITU-T H.264 (08/2021), 7.3.2.1 (sequence parameter set), 7.3.3 (slice header), 7.4.1.2.4 (which slices are one picture).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from diadoche.core.identify.units import START_CODE, split_units, unit_bounds, unit_length_bytes

_SLICES, _SEQUENCE = (1, 5), 7
# Profiles whose parameter sets tell chroma and depth [H264, 7.3.2.1.1].
_HIGH_PROFILES = {100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135}
# Of a slice: far more than the numbers that are read there take.
_HEAD_BYTES = 32
_FRONT_BYTES = 2048


class _Bits:
    """Reads bits, and the numbers of variable length that parameter sets are written in [H264, 9.1]."""

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
class _Sequence:
    """What of a sequence parameter set slice headers are read by."""

    frame_number_bits: int
    planes_apart: bool
    only_frames: bool


@dataclass(frozen=True, slots=True)
class _Field:
    frame_number: int
    bottom: bool


class FieldPairs:
    """Takes the packets of one H.264 track in the order of the file, and tells second fields."""

    def __init__(self, extradata: bytes | None) -> None:
        """`extradata`: the track's own head; parameter sets among the packets count too."""
        self._length_bytes = unit_length_bytes("h264", extradata)
        self._sequence: _Sequence | None = None
        self._sequence_unit = b""
        self._open: _Field | None = None
        if extradata:
            for unit in _sets_of(extradata):
                self._note_sequence(unit)

    def is_second(self, packet: bytes | memoryview) -> bool:
        """Whether the packet belongs to the picture that the packet before began."""
        # The parameter sets and the head of the first slice stand in front; nobody needs to look for where it ends.
        found, field = self._first_slice(bytes(packet[:_FRONT_BYTES]))
        if not found and len(packet) > _FRONT_BYTES:
            _found, field = self._first_slice(bytes(packet))
        if self._sequence is not None and self._sequence.only_frames:
            return False
        before, self._open = self._open, field
        second = (
            before is not None
            and field is not None
            and field.frame_number == before.frame_number
            and field.bottom != before.bottom
        )
        if second:
            self._open = None
        return second

    def _first_slice(self, data: bytes) -> tuple[bool, _Field | None]:
        """Whether there is a slice, and the field that it belongs to."""
        for begin, end in unit_bounds(data, self._length_bytes) if self._length_bytes else _units_in_front(data):
            kind = data[begin] & 0x1F
            if kind in _SLICES:
                return True, self._field_of(data[begin : begin + _HEAD_BYTES])
            if kind == _SEQUENCE:
                self._note_sequence(data[begin:end])
        return False, None

    @property
    def never(self) -> bool:
        """Whether the stream says that it holds no fields of their own: nobody needs to ask."""
        return self._sequence is not None and self._sequence.only_frames

    def _note_sequence(self, unit: bytes) -> None:
        if unit == self._sequence_unit:
            return
        self._sequence_unit = unit
        try:
            self._sequence = _sequence_of(unit)
        except ValueError:
            self._sequence = None

    def _field_of(self, unit: bytes) -> _Field | None:
        """The field that a slice belongs to; None for one of a whole picture."""
        if self._sequence is None or self._sequence.only_frames:
            return None
        try:
            bits = _Bits(unit[1:_HEAD_BYTES])
            for _ in ("first macroblock", "slice type", "picture parameter set"):
                bits.number()
            if self._sequence.planes_apart:
                bits.take(2)
            number = bits.take(self._sequence.frame_number_bits)
            return _Field(number, bool(bits.take(1))) if bits.take(1) else None
        except ValueError:
            return None


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


def _sequence_of(unit: bytes) -> _Sequence:
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
    kind = bits.number()
    if kind == 0:
        bits.number()
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
    return _Sequence(frame_number_bits, planes_apart, bool(bits.take(1)))


def _skip_scaling_list(bits: _Bits, size: int) -> None:
    last, following = 8, 8
    for _ in range(size):
        if following:
            code = bits.number()
            following = (last + ((code + 1) // 2 if code % 2 else -(code // 2))) % 256
        last = following or last
