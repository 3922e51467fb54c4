"""Making edit-ready files from originals."""
