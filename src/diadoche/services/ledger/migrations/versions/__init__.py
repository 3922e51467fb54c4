"""The steps themselves; a step is never changed after it has landed."""
