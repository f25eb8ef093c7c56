"""The ASN.1 structures of signatures that the library does not bring, as the
published descriptions named in `signatures` have them.
"""

from asn1crypto import algos, cms, core, parser

__all__ = ["IndirectData", "cms", "core", "parser"]


class SpcAttribute(core.Sequence):  # type: ignore[misc]
    """A kind and its value."""

    _fields = [("type", core.ObjectIdentifier), ("value", core.Any, {"optional": True})]


class DigestInfo(core.Sequence):  # type: ignore[misc]
    """RFC 2315, 9.4."""

    _fields = [("algorithm", algos.DigestAlgorithm), ("digest", core.OctetString)]


class IndirectData(core.Sequence):  # type: ignore[misc]
    """What a signature of a file signs."""

    _fields = [("data", SpcAttribute), ("message_digest", DigestInfo)]
