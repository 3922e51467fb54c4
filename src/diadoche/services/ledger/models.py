"""The ledger's tables."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Index, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

# The newest migration makes these tables.
NEWEST_VERSION = "0004"


class Base(DeclarativeBase):
    """Base of all tables."""


class ShootRow(Base):
    """A piece of work with its own destinations, naming and settings."""

    __tablename__ = "shoots"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Text, unique=True)
    created: Mapped[datetime]
    settings: Mapped[str] = mapped_column(Text)


class WaybillRow(Base):
    """One offload. `result` is the whole record as JSON."""

    __tablename__ = "waybills"
    id: Mapped[int] = mapped_column(primary_key=True)
    shoot_id: Mapped[int] = mapped_column(ForeignKey("shoots.id"), index=True)
    card: Mapped[str] = mapped_column(Text)
    layout: Mapped[str] = mapped_column(Text)
    fingerprint: Mapped[str] = mapped_column(Text, index=True)
    started: Mapped[datetime]
    seconds: Mapped[float]
    files: Mapped[int]
    size_bytes: Mapped[int]
    whole: Mapped[bool]
    html: Mapped[str] = mapped_column(Text)
    result: Mapped[str] = mapped_column(Text)
    taking: Mapped[str] = mapped_column(Text, default="", index=True)
    copies: Mapped[list[CopyRow]] = relationship(order_by="CopyRow.id", cascade="all, delete-orphan")
    clips: Mapped[list[ClipRow]] = relationship(order_by="ClipRow.id", cascade="all, delete-orphan")


class CopyRow(Base):
    """Where one copy of a card is. `status`, `verified` and `last_check` follow from its evidence (`ledger/copies`)."""

    __tablename__ = "copies"
    id: Mapped[int] = mapped_column(primary_key=True)
    waybill_id: Mapped[int] = mapped_column(ForeignKey("waybills.id"), index=True)
    destination: Mapped[str] = mapped_column(Text)
    root: Mapped[str] = mapped_column(Text)
    manifest: Mapped[str] = mapped_column(Text)
    files_verified: Mapped[int]
    status: Mapped[str] = mapped_column(Text)
    verified: Mapped[datetime | None]
    disk: Mapped[str] = mapped_column(Text, default="")
    disk_words: Mapped[str] = mapped_column(Text, default="")
    last_check: Mapped[str] = mapped_column(Text, default="")
    taking: Mapped[str] = mapped_column(Text, default="")
    copy_id: Mapped[str] = mapped_column(Text, default="", index=True)
    renamed: Mapped[str] = mapped_column(Text, default="{}")
    evidence: Mapped[list[EvidenceRow]] = relationship(order_by="EvidenceRow.id", cascade="all, delete-orphan")


class EvidenceRow(Base):
    """Something that became known of a copy; rows are added, and never changed."""

    __tablename__ = "evidence"
    id: Mapped[int] = mapped_column(primary_key=True)
    copy_row: Mapped[int] = mapped_column(ForeignKey("copies.id"), index=True)
    at: Mapped[datetime | None]
    kind: Mapped[str] = mapped_column(Text)
    state: Mapped[str] = mapped_column(Text)
    ok: Mapped[int] = mapped_column(default=0)
    words: Mapped[str] = mapped_column(Text, default="")


class FileRow(Base):
    """A file that came off a card, by which a card is recognised again."""

    __tablename__ = "files"
    __table_args__ = (Index("ix_files_recognised", "path", "size_bytes", "changed_ns"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    waybill_id: Mapped[int] = mapped_column(ForeignKey("waybills.id"), index=True)
    path: Mapped[str] = mapped_column(Text)
    size_bytes: Mapped[int]
    changed_ns: Mapped[int]
    digests: Mapped[str] = mapped_column(Text)
    # What told the digests: a reading of the card, or a manifest that was found.
    source: Mapped[str] = mapped_column(Text, default="card")


class ClipRow(Base):
    """A recording; its facts come after the copy is proven. Paths are relative to the card's top."""

    __tablename__ = "clips"
    id: Mapped[int] = mapped_column(primary_key=True)
    waybill_id: Mapped[int] = mapped_column(ForeignKey("waybills.id"), index=True)
    name: Mapped[str] = mapped_column(Text)
    clip: Mapped[str] = mapped_column(Text)
    start: Mapped[str | None] = mapped_column(Text)
    facts: Mapped[str | None] = mapped_column(Text)
    shoot_id: Mapped[int | None] = mapped_column(default=None)
    verdict: Mapped[str] = mapped_column(Text, default="")
    tags: Mapped[str] = mapped_column(Text, default="[]")
    note: Mapped[str] = mapped_column(Text, default="")
    outputs: Mapped[list[OutputRow]] = relationship(order_by="OutputRow.id", cascade="all, delete-orphan")


class OutputRow(Base):
    """A file made from a clip by a recipe, with its checks."""

    __tablename__ = "outputs"
    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clips.id"), index=True)
    path: Mapped[str] = mapped_column(Text)
    recipe: Mapped[str] = mapped_column(Text)
    made: Mapped[datetime]
    version: Mapped[str] = mapped_column(Text)
    result: Mapped[str] = mapped_column(Text)


class HappeningRow(Base):
    """Something that happened, for whoever was away."""

    __tablename__ = "happenings"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    kind: Mapped[str] = mapped_column(Text)
    words: Mapped[str] = mapped_column(Text)
    seen: Mapped[bool] = mapped_column(default=False)


class RememberedRow(Base):
    """A choice of the person's that is remembered for a card, a camera or a source."""

    __tablename__ = "remembered"
    id: Mapped[int] = mapped_column(primary_key=True)
    scope: Mapped[str] = mapped_column(Text)
    key: Mapped[str] = mapped_column(Text)
    value: Mapped[str] = mapped_column(Text)


class JobRow(Base):
    """A job of the queue, kept so that it goes on after a crash."""

    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(Text)
    title: Mapped[str] = mapped_column(Text)
    resource: Mapped[str] = mapped_column(Text)
    request: Mapped[str] = mapped_column(Text)
    state: Mapped[str] = mapped_column(Text, index=True)
    created: Mapped[datetime]
    started: Mapped[datetime | None]
    ended: Mapped[datetime | None]
    outcome: Mapped[str] = mapped_column(Text, default="")
