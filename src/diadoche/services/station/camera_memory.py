"""What is remembered of cards and cameras: names of the person's own, and where a camera's takings go."""

from __future__ import annotations

from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_each, remember
from diadoche.services.station.card_in import CameraSettings, CardIn

_SCOPE = "camera"


def recalled(ledger: Ledger, card: CardIn, shoot_id: int) -> CameraSettings:
    """What is remembered of this card or its camera: the nearest wins, part by part."""
    keys = [*_card_keys(card), *_camera_keys(card, shoot_id)]
    found = recall_each(ledger, _SCOPE, keys, CameraSettings)
    names = (each.name for each in found if each.name)
    folders = (each.folders for each in found if each.folders)
    return CameraSettings(next(names, ""), next(folders, ""), any(each.is_card for each in found))


def remember_name(ledger: Ledger, card: CardIn, shoot_id: int, name: str) -> None:
    """Remembers a card's name."""
    before = recalled(ledger, card, shoot_id)
    for each in _card_keys(card):
        remember(ledger, _SCOPE, each, CameraSettings(name, before.folders, before.is_card))


def remember_card(ledger: Ledger, card: CardIn, shoot_id: int) -> None:
    """Remembers that the person said a medium is a card."""
    before = recalled(ledger, card, shoot_id)
    for each in _card_keys(card):
        remember(ledger, _SCOPE, each, CameraSettings(before.name, before.folders, is_card=True))


def remember_folders(ledger: Ledger, card: CardIn, shoot_id: int, folders: str) -> None:
    """Remembers the naming of a card's camera in this shoot; an empty one gives it back to the shoot."""
    for each in _camera_keys(card, shoot_id)[:1]:
        remember(ledger, _SCOPE, each, CameraSettings("", folders))


def _card_keys(card: CardIn) -> list[str]:
    """What a card's own memory is filed under: its filesystem's number, and its first file, never its label."""
    found = card.card
    # The first file stays when a card gets more clips.
    first = found.tree.files[0] if found is not None and found.tree.files else None
    keys = [f"card:{card.medium.identity}"] if card.medium.identity else []
    return [*keys, f"card:{first.path} {first.size_bytes} {first.changed_ns}"] if first is not None else keys


def _camera_keys(card: CardIn, shoot_id: int) -> list[str]:
    """What its camera's memory is filed under: in this shoot, then anywhere."""
    camera = card.card.serial or card.card.camera if card.card is not None else ""
    return [f"camera:{camera}/{shoot_id}", f"camera:{camera}"] if camera else []
