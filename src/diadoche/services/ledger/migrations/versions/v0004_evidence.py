"""What is known of copies, in the order in which it became known; and which copy each is."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

_COLUMNS = (
    ("copies", "taking", ""),
    ("copies", "copy_id", ""),
    ("copies", "renamed", "{}"),
    ("waybills", "taking", ""),
    ("files", "source", "card"),
)


def upgrade() -> None:
    """Adds columns and a table; of copies that are known already nothing more is believed than was said of them."""
    for table, name, otherwise in _COLUMNS:
        op.add_column(table, sa.Column(name, sa.Text, nullable=False, server_default=otherwise))
    op.create_table(
        "evidence",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("copy_row", sa.Integer, sa.ForeignKey("copies.id"), nullable=False),
        sa.Column("at", sa.DateTime),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("state", sa.Text, nullable=False),
        sa.Column("ok", sa.Integer, nullable=False, server_default="0"),
        sa.Column("words", sa.Text, nullable=False, server_default=""),
    )
    op.create_index("ix_evidence_copy_row", "evidence", ["copy_row"])
    op.create_index("ix_copies_copy_id", "copies", ["copy_id"])
    op.create_index("ix_waybills_taking", "waybills", ["taking"])
    op.execute(
        "insert into evidence (copy_row, at, kind, state, ok, words) "
        "select id, verified, 'stated', status, files_verified, last_check from copies"
    )


def downgrade() -> None:
    """Takes the additions away again."""
    op.drop_index("ix_waybills_taking")
    op.drop_index("ix_copies_copy_id")
    op.drop_table("evidence")
    for table, name, _otherwise in _COLUMNS:
        op.drop_column(table, name)
