"""The first tables: shoots, waybills, copies, files, clips, outputs, jobs."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def _key() -> sa.Column[int]:
    return sa.Column("id", sa.Integer, primary_key=True)


def _of(table: str) -> sa.Column[int]:
    name = {"shoots": "shoot_id", "waybills": "waybill_id", "clips": "clip_id"}[table]
    return sa.Column(name, sa.Integer, sa.ForeignKey(f"{table}.id"), nullable=False, index=True)


def _text(name: str, *, empty: bool = False, index: bool = False) -> sa.Column[str]:
    return sa.Column(name, sa.Text, nullable=empty, index=index)


def _number(name: str) -> sa.Column[int]:
    return sa.Column(name, sa.BigInteger, nullable=False)


def _time(name: str, *, empty: bool = False) -> sa.Column[sa.DateTime]:
    return sa.Column(name, sa.DateTime, nullable=empty)


def upgrade() -> None:
    """Makes the tables."""
    op.create_table(
        "shoots", _key(), sa.Column("name", sa.Text, nullable=False, unique=True), _time("created"), _text("settings")
    )
    op.create_table(
        "waybills",
        _key(),
        _of("shoots"),
        _text("card"),
        _text("layout"),
        _text("fingerprint", index=True),
        _time("started"),
        sa.Column("seconds", sa.Float, nullable=False),
        _number("files"),
        _number("size_bytes"),
        sa.Column("whole", sa.Boolean, nullable=False),
        _text("html"),
        _text("result"),
    )
    op.create_table(
        "copies",
        _key(),
        _of("waybills"),
        _text("destination"),
        _text("root"),
        _text("manifest"),
        _number("files_verified"),
        _text("status"),
        _time("verified", empty=True),
    )
    op.create_table(
        "files", _key(), _of("waybills"), _text("path"), _number("size_bytes"), _number("changed_ns"), _text("digests")
    )
    op.create_index("ix_files_recognised", "files", ["path", "size_bytes", "changed_ns"])
    op.create_table(
        "clips",
        _key(),
        _of("waybills"),
        _text("name"),
        _text("clip"),
        _text("start", empty=True),
        _text("facts", empty=True),
    )
    op.create_table(
        "outputs",
        _key(),
        _of("clips"),
        _text("path"),
        _text("recipe"),
        _time("made"),
        _text("version"),
        _text("result"),
    )
    op.create_table(
        "jobs",
        _key(),
        _text("kind"),
        _text("title"),
        _text("resource"),
        _text("request"),
        _text("state", index=True),
        _time("created"),
        _time("started", empty=True),
        _time("ended", empty=True),
        _text("outcome"),
    )


def downgrade() -> None:
    """There is nothing older."""
    raise RuntimeError("the first version of the ledger has nothing before it")
