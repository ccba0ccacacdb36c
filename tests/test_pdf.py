"""PDF: cross references followed entry by entry, streams unpacked to their ends; bytes by hand (ISO 32000-1 §7.5)."""

import io
import zlib
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from mudlark.verify.account import Account
from mudlark.verify.forms.pdf import check_pdf

_TEXT = b"0 0 m 100 100 l S\n" * 40


def document(
    *,
    packed: bytes | None = None,
    entries: int = 5,
    stated: int = 5,
    shift: int = 0,
    behind: bytes = b"",
    catalog: bytes = b"/Type /Catalog",
) -> bytes:
    """One page with a packed stream. stated: entries of the cross-reference table, of which there are so many. shift:
    added to the place of the last object."""
    packed = zlib.compress(_TEXT) if packed is None else packed
    bodies = [
        b"<< %s /Pages 2 0 R >>" % catalog,
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 100 100] /Contents 4 0 R /Resources << >> >>",
        b"<< /Filter /FlateDecode /Length %d >>\nstream\n%s\nendstream" % (len(packed), packed),
    ]
    data, places = b"%PDF-1.4\n", []
    for number, body in enumerate(bodies, start=1):
        places.append(len(data))
        data += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    places[-1] += shift
    table = b"0000000000 65535 f \n" + b"".join(b"%010d 00000 n \n" % place for place in places)
    start = len(data)
    data += b"xref\n0 %d\n" % stated + table[: 20 * entries]
    return data + b"trailer\n<< /Size 5 /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % start + behind


def judged(folder: Path, data: bytes) -> Account:
    (folder / "plan.pdf").write_bytes(data)
    account = Account()
    check_pdf(folder / "plan.pdf", account)
    account.close(len(data))
    return account


def test_a_key_that_is_there_twice_is_no_damage(tmp_path: Path) -> None:
    """As a typesetter leaves it that was told of an author twice; ISO 32000-1 §7.3.7 knows no such thing."""
    for twice in (b"/Lang (cy) /Lang (en)", b"/ViewerPreferences << /HideMenubar true /HideMenubar true >>"):
        assert judged(tmp_path, document(catalog=b"/Type /Catalog " + twice)).verdict == "sound"
    account = judged(tmp_path, document(catalog=b"/Type /Catalog /Lang (cy) /Lang (en) /Open [1 2 3"))
    assert account.verdict in ("flawed", "broken")


def test_a_whole_document_is_sound(tmp_path: Path) -> None:
    packer = zlib.compressobj()
    flushed = packer.compress(_TEXT) + packer.flush(zlib.Z_SYNC_FLUSH)  # as programs that fill in forms leave it
    packed = [document(packed=one) for one in (zlib.compress(_TEXT, 0), flushed)]
    for data in (document(), *packed, document(behind=b"\r\n\0\0")):
        account = judged(tmp_path, data)
        assert (account.verdict, account.problems) == ("sound", []), account


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (document(packed=zlib.compress(_TEXT)[:-5]), "Object 4 of the PDF, at byte"),
        (document(packed=zlib.compress(_TEXT)[:-1] + b"\0"), "Object 4"),
        (document(entries=4), "not as many as they state"),
        (document(stated=4), "do not end as they should"),
        (document(shift=3), "Object 4 of the PDF cannot be read: it does not stand at byte"),
        (document().replace(b"startxref\n", b"startxref\n1"), "no cross references stand"),
        (document()[:-6], "likely cut short"),
    ],
    ids=["cut stream", "check sum", "entries", "stated", "place", "start", "end"],
)
def test_what_does_not_hold_is_said(tmp_path: Path, data: bytes, words: str) -> None:
    account = judged(tmp_path, data)
    assert account.verdict in ("flawed", "broken") and words in account.problems[0].message, account.problems


def test_what_stands_behind_the_end_is_not_accounted_for(tmp_path: Path) -> None:
    account = judged(tmp_path, document(behind=b"something else"))
    assert (account.verdict, account.problems) == ("unproven", [])


def test_pictures_of_scans_are_looked_into(tmp_path: Path) -> None:
    pixels = np.random.default_rng(1).integers(0, 255, (200, 300, 3), np.uint8)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PDF")
    assert judged(tmp_path, out.getvalue()).verdict == "sound"
    damaged = bytearray(out.getvalue())
    damaged[20_000:22_000] = bytes(2_000)
    (problem,) = judged(tmp_path, bytes(damaged)).problems
    assert "zeros stand in place of its coded data" in problem.message
