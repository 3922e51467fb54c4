"""A camera, a phone's share or a file server by its address: the person types that alone, the rest is composed."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QDialog, QFormLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from diadoche.ui.parts import button, label

_WIDTH_PX = 520


class AddressDialog(QDialog):
    """Asks for an address; stays open until it is connected, and says what is wrong."""

    def __init__(self, parent: QWidget, connect: Callable[[str, str, str], None], address: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle("A camera or file server by address")
        self.setFixedWidth(_WIDTH_PX)
        self._connect = connect
        self.address, self.user, self.password = QLineEdit(address), QLineEdit(), QLineEdit()
        self.address.setToolTip("server/share, as the camera or the server shows it; folders may follow")
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        form = QFormLayout()
        form.addRow("Address", self.address)
        form.addRow("User, if it asks for one", self.user)
        form.addRow("Password", self.password)
        self.message = label(
            "It is only read from. Leave the cards in the camera while it lists them.", "soft", wrap=True
        )
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Back", self.reject))
        self._ask = button("Connect", self._begin, name="main")
        self._ask.setDefault(True)
        row.addWidget(self._ask)
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 20, 22, 18)
        column.setSpacing(14)
        column.addLayout(form)
        column.addWidget(self.message)
        column.addLayout(row)

    def _begin(self) -> None:
        if self.address.text().strip():
            self._ask.setEnabled(False)
            self.message.setText("Asking the server…")
            self._connect(self.address.text().strip(), self.user.text(), self.password.text())

    def answered(self, words: str, *, failed: bool) -> None:
        """What the server said."""
        if failed:
            self.message.setText(words)
            self._ask.setEnabled(True)
        else:
            self.accept()
