"""Which tracks to take when a presentation offers several."""

from mudlark.errors import NothingFound
from mudlark.manifest.model import Presentation, Track


def highest(presentation: Presentation) -> list[Track]:
    """The rendition with the largest picture (then the highest bitrate), and the sound that belongs to it."""
    played = [
        track for track in presentation.tracks if track.type in ("video", "file", "images") and track.group is None
    ]
    played = played or [track for track in presentation.tracks if track.type == "audio"]
    if not played:
        raise NothingFound(f"{presentation.url} lists no rendition with picture or sound.")
    best = max(played, key=lambda track: ((track.width or 0) * (track.height or 0), track.bitrate or 0))
    sounds = [t for t in presentation.tracks if t.type == "audio" and t.group and t.group == best.audio_group]
    sound = next((t for t in sounds if t.default), None)
    if sound is None and not best.sound_within:
        sound = sounds[0] if sounds else None
    if best.sound_default:
        sound = None
    return [best, sound] if sound and sound is not best else [best]
