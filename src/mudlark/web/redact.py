"""What gives access, and how it is hidden: the one rule for everything that stays on disk or is shown.

Cookies, Authorization and the like, and the values of header fields, parameters, JSON members and form fields that give
access (by their usual names, one list for all of them, and whatever is a JSON Web Token, RFC 7519) are replaced by a
short digest of themselves, so that two can still be compared.
Whoever keeps or shows a text sends it through `redacted`, a header field through `redacted_field`, a command line
through `redacted_words`. Whether two things are the same is another question: `archive/identity.py`.
"""

import hashlib
import re
from collections.abc import Iterator, Sequence
from functools import cache

_FIELDS = frozenset(  # of HTTP alone, beside those that have one of the names
    {
        *("cookie", "set-cookie", "proxy-authorization", "www-authenticate", "proxy-authenticate"),
        *("authentication-info", "proxy-authentication-info"),
    }
)
_MARK = "hidden-"
_HEADER_OPTION = "--header"
_NAMES = (
    r"(?:[a-z0-9]{1,40}[-_.]){0,4}[a-z0-9]{0,40}(?:token|signature|secret|password|passwd|credential)s?"
    r"|sig|sign|hmac|policy|key[-_]pair[-_]id|hdnts|hdnea|hdntl|jwt|auth|authorization|auth[-_]?key"
    r"|session(?:[-_]?(?:id|key))?|(?:php|j|asp)?sess(?:ion)?id|sid|access[-_]?key(?:[-_]?id)?|awsaccesskeyid"
    r"|(?:x[-_])?(?:[a-z0-9]{1,20}[-_])?api[-_]?key|x-(?:amz|goog)-[a-z-]{1,60}|pass|pwd|ticket"
)
_OPEN = r"\A|[?&;#]|\\u0026|%3f|%26"  # what stands before a parameter, also inside JSON, HTML and other addresses
_PARAMETER = re.compile(
    rf"(?P<open>{_OPEN})(?P<name>{_NAMES})(?P<equals>=|%3d)"
    rf"(?P<value>(?:(?!%26|%23|\\u0026)[^&;#\s\"'<>\\|])+)",
    re.I,
)
_NAME = re.compile(_NAMES, re.I)
_FIELD = re.compile(r"<(?:input|meta)\b[^<>]{1,4000}>", re.I)  # a field that a page fills in, or tells its scripts
_FIELD_VALUE = re.compile(r"""(?P<open>\b(?:value|content)\s*=\s*\\*["']?)(?P<value>[^"'\\\s<>][^"'\\<>]*)""", re.I)
_SCRIPTED = re.compile(  # as scripts and messages have it: a member, an argument of setRequestHeader, a line
    r"(?P<open>\bAuthorization(?:[\"'\\]{0,4}\s{0,3}[:=]\s{0,3}[\"'`\\]{0,4}|[\"'\\]{1,4}\s{0,3},\s{0,3}[\"'`\\]{1,4})"
    r"(?:(?:Bearer|Basic|Digest|Token|ApiKey)\s{1,3})?)(?P<value>[^\s\"'`\\,;<>(){}]{4,})",
    re.I,
)
_BEARER = re.compile(r"(?P<open>\bBearer\s{1,3})(?P<value>[A-Za-z0-9._~+/=-]{16,})")
_LOGIN = re.compile(r"(?<=://)[^/\s@:\"'<>]*:[^/\s@\"'<>]*(?=@)")  # user and password in an address
_TOKEN = re.compile(r"(?<![A-Za-z0-9_-])eyJ[A-Za-z0-9_-]{5,}\.eyJ[A-Za-z0-9_-]{5,}\.[A-Za-z0-9_-]*")
_REDACTED = re.compile(rf"{_MARK}[0-9a-f]{{12}}")


def digest_of(value: str) -> str:
    """What stands in the place of a secret value; one that is hidden already stays as it is."""
    if value.startswith(_MARK):
        return value
    return _MARK + hashlib.sha256(value.encode("utf-8", "surrogatepass")).hexdigest()[:12]


def redacted(text: str) -> str:
    """Any text (an address, a manifest, a message, JSON) with the secret values in it replaced."""
    text = _TOKEN.sub(lambda match: digest_of(match[0]), text)
    text = _LOGIN.sub(lambda match: digest_of(match[0]), text)
    for form in (_SCRIPTED, _BEARER):
        text = form.sub(lambda match: match["open"] + digest_of(match["value"]), text)
    text = _PARAMETER.sub(
        lambda match: match["open"] + match["name"] + match["equals"] + digest_of(match["value"]), text
    )
    if '"' in text:
        text = _member().sub(lambda match: match["open"] + digest_of(match["value"]), text)
    return _FIELD.sub(lambda match: _redacted_tag(match[0]), text)


@cache
def _member() -> re.Pattern[str]:
    """A member of JSON, also of JSON that is itself a string in JSON. Most addresses need none of it."""
    return re.compile(
        rf'(?P<open>(?<!\\)(?P<quote>\\*+")(?:{_NAMES})(?P=quote)\s*:\s*(?P=quote))'
        r"(?P<value>(?:(?!(?P=quote)).)+)(?=(?P=quote))",
        re.I,
    )


@cache
def _naming() -> re.Pattern[str]:
    """What in a tag says that its value gives access."""
    return re.compile(
        rf"""\b(?:name|id)\s*=\s*\\*["']?(?:{_NAMES})(?=["'\\\s/>])|\btype\s*=\s*\\*["']?password""", re.I
    )


def _redacted_tag(tag: str) -> str:
    """A form's field with its value replaced if its name, or its being a password, says that it gives access."""
    if not _naming().search(tag):
        return tag
    return _FIELD_VALUE.sub(lambda match: match["open"] + digest_of(match["value"]), tag)


def gives_access(name: str) -> bool:
    """True for the name of a header field, parameter or member whose value gives access."""
    return name.lower() in _FIELDS or _NAME.fullmatch(name) is not None


def redacted_field(name: str, value: str) -> str:
    """The value of a header field, parameter or member, as it may be kept or shown, by its name."""
    return digest_of(value) if value and gives_access(name) else redacted(value)


def redacted_words(words: Sequence[str]) -> Iterator[str]:
    """The words of a command line as they may be kept: `--header 'Name: value'`, also with `=`, and whatever else gives
    access in them."""
    before = ""
    for word in words:
        option, equals, value = word.partition("=") if word.startswith("--") else ("", "", word)
        if (option or before) == _HEADER_OPTION and (equals or not option):
            name, _, content = value.partition(":")
            value = f"{name}: {redacted_field(name.strip(), content.strip())}"
        elif equals and gives_access(option.lstrip("-")):
            value = digest_of(value)
        else:
            value = redacted(value)
        yield f"{option}{equals}{value}" if option else value
        before = word


def without_access(text: str) -> str:
    """A text without the parameters, log-ins and tokens that give access."""
    return _PARAMETER.sub(r"\g<open>", _LOGIN.sub("", _TOKEN.sub("", text)))


def is_redacted(address: str) -> bool:
    """True if an address lacks a secret that was left out of what it was read from."""
    return bool(_REDACTED.search(address))
