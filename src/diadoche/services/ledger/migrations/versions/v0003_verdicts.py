"""What a person says of a clip: keep, maybe or no, tags, and a note."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

_COLUMNS = {"verdict": "", "tags": "[]", "note": ""}


def upgrade() -> None:
    """Adds columns; nothing that stands is changed."""
    for name, otherwise in _COLUMNS.items():
        op.add_column("clips", sa.Column(name, sa.Text, nullable=False, server_default=otherwise))


def downgrade() -> None:
    """Takes the additions away again."""
    for name in _COLUMNS:
        op.drop_column("clips", name)
