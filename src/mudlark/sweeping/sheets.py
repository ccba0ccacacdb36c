"""Spreadsheets as lists: the first sheet of a workbook (Office Open XML, OpenDocument) as rows of texts."""

import zipfile
from io import BytesIO
from pathlib import Path

from mudlark.errors import FormatError, UsageError, examining

_ZIP = b"PK\x03\x04"
_LARGEST = 300_000_000  # bytes that a workbook unpacks to
_KINDS = {"xl/workbook.xml": "openpyxl", "content.xml": "odf"}  # what is inside, and what reads it


def is_workbook(body: bytes) -> bool:
    """True for what may be a spreadsheet."""
    return body[:4] == _ZIP


def cells_in(body: bytes) -> list[list[str]]:
    """The rows of the first sheet, as texts. Raises FormatError for what is no spreadsheet."""
    try:
        with zipfile.ZipFile(BytesIO(body)) as book:
            engine = next((engine for name, engine in _KINDS.items() if name in book.namelist()), None)
            size = sum(entry.file_size for entry in book.infolist())
    except (zipfile.BadZipFile, ValueError, NotImplementedError) as problem:
        raise FormatError(f"The workbook cannot be opened: {problem}.", advice="Save it anew, or as CSV.") from problem
    if engine is None:
        raise FormatError("A ZIP file is no list.", advice="Unpack it, and give the table in it.")
    if size > _LARGEST:
        raise FormatError(f"The workbook unpacks to {size / 1e6:.0f} MB.", advice="Save its sheet as CSV.")
    try:
        import pandas
    except ImportError as problem:
        raise _missing() from problem
    with examining(Path("The workbook")):
        try:
            frame = pandas.read_excel(BytesIO(body), sheet_name=0, header=None, dtype=str, engine=engine)
        except ImportError as problem:
            raise _missing() from problem
    texts = frame.astype(object).where(frame.notna(), "")
    return [[str(cell) for cell in row] for row in texts.itertuples(index=False, name=None)]


def _missing() -> UsageError:
    return UsageError(
        "Reading spreadsheets needs the extra 'sheets', which is not installed.",
        "pip install 'mudlark[sheets]', or save the sheet as CSV.",
    )
