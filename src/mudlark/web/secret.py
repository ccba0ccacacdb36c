"""What gives access, and how it is hidden: the one rule for everything that stays on disk or is shown.

Cookies, Authorization and the like, and the values of parameters, JSON members and form fields that give access (by
their usual names, and whatever is a JSON Web Token, RFC 7519) are replaced by a short digest of themselves, so that two
can still be compared.
Whoever keeps or shows a text sends it through `veiled`, a header field through `veiled_field`.
"""

import hashlib
import re

SECRET_FIELDS = frozenset(
    {
        *("authorization", "cookie", "proxy-authorization", "set-cookie", "x-auth-token", "x-api-key"),
        *("www-authenticate", "proxy-authenticate", "authentication-info", "private-token", "x-amz-security-token"),
    }
)
_SECRET_WORDS = frozenset({"token", "tokens", "signature", "secret", "password", "credential", "credentials", "jwt"})
_MARK = "hidden-"
_NAMES = (
    r"(?:[a-z0-9]+[-_.]?)?(?:token|signature|secret|password|passwd|credential)s?"
    r"|sig|sign|hmac|policy|key[-_]pair[-_]id|hdnts|hdnea|hdntl|jwt|auth|authorization|auth[-_]?key"
    r"|session(?:[-_]?(?:id|key))?|(?:php|j|asp)?sess(?:ion)?id|sid|access[-_]?key(?:[-_]?id)?|awsaccesskeyid|api[-_]?key"
    r"|x-(?:amz|goog)-[a-z-]+|pass|pwd|ticket"
)
_OPEN = r"\A|[?&;#]|\\u0026|%3f|%26"  # what stands before a parameter, also inside JSON, HTML and other addresses
_PARAMETER = re.compile(
    rf"(?P<open>{_OPEN})(?P<name>{_NAMES})(?P<equals>=|%3d)"
    rf"(?P<value>(?:(?!%26|%23|\\u0026)[^&;#\s\"'<>\\|])+)",
    re.I,
)
_JSON = re.compile(  # also in JSON that is itself a string in JSON
    rf'(?P<open>(?<!\\)(?P<quote>\\*+")(?:{_NAMES})(?P=quote)\s*:\s*(?P=quote))(?P<value>(?:(?!(?P=quote)).)+)(?=(?P=quote))',
    re.I,
)
_NAME = re.compile(_NAMES, re.I)
_FIELD = re.compile(r"<(?:input|meta)\b[^<>]{1,4000}>", re.I)  # a field that a page fills in, or tells its scripts
_FIELD_NAME = re.compile(
    rf"""\b(?:name|id)\s*=\s*\\*["']?(?:{_NAMES})(?=["'\\\s/>])|\btype\s*=\s*\\*["']?password""", re.I
)
_FIELD_VALUE = re.compile(r"""(?P<open>\b(?:value|content)\s*=\s*\\*["']?)(?P<value>[^"'\\\s<>][^"'\\<>]*)""", re.I)
_SCRIPTED = re.compile(  # as scripts and messages have it: a member, an argument of setRequestHeader, a line
    r"(?P<open>\bAuthorization(?:[\"'\\]{0,4}\s{0,3}[:=]\s{0,3}[\"'`\\]{0,4}|[\"'\\]{1,4}\s{0,3},\s{0,3}[\"'`\\]{1,4})"
    r"(?:(?:Bearer|Basic|Digest|Token|ApiKey)\s{1,3})?)(?P<value>[^\s\"'`\\,;<>(){}]{4,})",
    re.I,
)
_BEARER = re.compile(r"(?P<open>\bBearer\s{1,3})(?P<value>[A-Za-z0-9._~+/=-]{16,})")
_LOGIN = re.compile(r"(?<=://)[^/\s@:\"'<>]*:[^/\s@\"'<>]*(?=@)")  # user and password in an address
_TOKEN = re.compile(r"(?<![A-Za-z0-9_-])eyJ[A-Za-z0-9_-]{5,}\.eyJ[A-Za-z0-9_-]{5,}\.[A-Za-z0-9_-]*")
_VEILED = re.compile(rf"{_MARK}[0-9a-f]{{12}}")
_LEFT_OVER = re.compile(r"(?<![?&])[?&]++(?=$|[\s\"'<>#])|(?<![?&])(?P<first>[?&])&+")
_TIMES = re.compile(
    r"(?P<open>[?&])(?P<name>expires?|expiry|exp|e|se|st|deadline|valid_?until|[\w-]+[-_]expires)="
    r"(?:\d{9,13}|\d{4}-\d\d-\d\dT[\w:.%+-]+)(?=[&#]|$)",
    re.I,
)


def digest_of(value: str) -> str:
    """What stands in the place of a secret value; one that is hidden already stays as it is."""
    if value.startswith(_MARK):
        return value
    return _MARK + hashlib.sha256(value.encode("utf-8", "surrogatepass")).hexdigest()[:12]


def veiled(text: str) -> str:
    """Any text (an address, a manifest, a message, JSON) with the secret values in it replaced."""
    text = _TOKEN.sub(lambda match: digest_of(match[0]), text)
    text = _LOGIN.sub(lambda match: digest_of(match[0]), text)
    for form in (_SCRIPTED, _BEARER):
        text = form.sub(lambda match: match["open"] + digest_of(match["value"]), text)
    text = _PARAMETER.sub(
        lambda match: match["open"] + match["name"] + match["equals"] + digest_of(match["value"]), text
    )
    text = _JSON.sub(lambda match: match["open"] + digest_of(match["value"]), text)
    return _FIELD.sub(lambda match: _veiled_tag(match[0]), text)


def _veiled_tag(tag: str) -> str:
    """A form's field with its value replaced if its name, or its being a password, says that it gives access."""
    if not _FIELD_NAME.search(tag):
        return tag
    return _FIELD_VALUE.sub(lambda match: match["open"] + digest_of(match["value"]), tag)


def veiled_field(name: str, value: str) -> str:
    """The value of a header field as it may be kept or shown."""
    last = name.lower().replace("_", "-").rpartition("-")[2]
    secret = name.lower() in SECRET_FIELDS or last in _SECRET_WORDS or _NAME.fullmatch(name) is not None
    return digest_of(value) if secret and value else veiled(value)


def veiled_value(name: str, value: str) -> str:
    """The value of a parameter, as it may be kept or shown, by its name."""
    return digest_of(value) if value and _NAME.fullmatch(name) else veiled(value)


def without_secrets(text: str) -> str:
    """An address (or a text with addresses) without what changes each time it is handed out: the parameters that give
    access, and the times at which they expire. Two addresses are of the same source if they are equal so.
    """
    text = _TIMES.sub(r"\g<open>", text)
    text = _PARAMETER.sub(r"\g<open>", _LOGIN.sub("", _TOKEN.sub("", text)))
    return _LEFT_OVER.sub(r"\g<first>", text)


def is_veiled(address: str) -> bool:
    """True if an address lacks a secret that was left out of what it was read from."""
    return bool(_VEILED.search(address))
