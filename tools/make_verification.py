"""Write the table of docs/verification.md, which says what proves each kind of file, from the table that the code uses.

python tools/make_verification.py
"""

from pathlib import Path

from mudlark.media.forms import FORMS

PAGE = Path(__file__).parents[1] / "docs" / "verification.md"
_BEGIN, _END = "<!-- forms: made by tools/make_verification.py -->\n", "<!-- end of forms -->\n"


def table() -> str:
    """The rows of all forms that are looked into, and what is said of the others."""
    rows = ["| file | its bytes | what it states of itself | its end |", "|---|---|---|---|"]
    rows += [
        f"| {form.title} | {form.covers} | {form.promises or '–'} | {form.end or 'a digest only'} |"
        for form in FORMS.values()
        if form.covers
    ]
    others = ", ".join(form.title for form in FORMS.values() if not form.covers and not form.text)
    rows.append(f"| {others}, and anything else | not looked into | – | a digest only |")
    return "\n".join(rows) + "\n"


def made(page: str) -> str:
    """The page with its table made anew."""
    before, rest = page.split(_BEGIN)
    _, after = rest.split(_END)
    return before + _BEGIN + table() + _END + after


if __name__ == "__main__":
    PAGE.write_text(made(PAGE.read_text()))
