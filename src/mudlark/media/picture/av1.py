"""AV1: its name by its configuration (av1C, AV1 codec in ISO base media files §2.3)."""


def label(config: bytes, kind: str) -> str:
    """The RFC 6381 name of a configuration, in a sample entry of a kind."""
    if len(config) < 4:
        return kind
    depth = (12 if config[2] & 0x20 else 10) if config[2] & 0x40 else 8
    tier = "H" if config[2] & 0x80 else "M"
    return f"{kind}.{config[1] >> 5}.{config[1] & 31:02d}{tier}.{depth:02d}"
