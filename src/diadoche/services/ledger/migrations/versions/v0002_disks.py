"""Which disk a copy is on, how its last check went, what happened when, and what is remembered of cards and cameras."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Adds columns and tables; nothing that stands is changed."""
    for name in ("disk", "disk_words", "last_check"):
        op.add_column("copies", sa.Column(name, sa.Text, nullable=False, server_default=""))
    # A clip's own shoot, where it was sent to another than its card's.
    op.add_column("clips", sa.Column("shoot_id", sa.Integer, nullable=True))
    op.create_table(
        "happenings",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("words", sa.Text, nullable=False),
        sa.Column("seen", sa.Boolean, nullable=False, server_default=sa.false()),
    )
    op.create_table(
        "remembered",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("scope", sa.Text, nullable=False),
        sa.Column("key", sa.Text, nullable=False),
        sa.Column("value", sa.Text, nullable=False),
        sa.UniqueConstraint("scope", "key"),
    )


def downgrade() -> None:
    """Takes the additions away again."""
    op.drop_table("remembered")
    op.drop_table("happenings")
    op.drop_column("clips", "shoot_id")
    for name in ("disk", "disk_words", "last_check"):
        op.drop_column("copies", name)
