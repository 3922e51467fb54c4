"""Where manifests lie, and sentences that they say of their copy for people.

Versions before the third table of the ledger said in these sentences alone that a copy is not whole: of their
manifests they are read again. Later ones say it in fields of their own (`manifest_writing`).
"""

from diadoche.core.offload.journal import MANIFEST_FOLDER

FOLDER = MANIFEST_FOLDER
CHAIN_NAME = "ascmhl_chain.xml"
SIDE_LIST = ".unlisted.jsonl"
TOOL = "diadoche"
MHL = "{urn:ASC:MHL:v2.0}"
CHAIN = "{urn:ASC:MHL:DIRECTORY:v2.0}"
# What a manifest of ours says of its copy, in the element that the standard leaves open [ASCMHL, MetadataType].
ABOUT = "{urn:diadoche:copy:1}about"

NOT_WHOLE = "This copy is not whole"
LESS_THAN_WHOLE = "Less than the whole card was asked for."
TAKEN_IN = "Taken in where it lay: listed, not copied."
