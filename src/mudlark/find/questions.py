"""The questions that a page asks before it gives anything: forms, and drop-downs that lead on.

A form is sent as a browser would (HTML §4.10.21): hidden fields and tokens go along, what has a default keeps it, what
the user answered is set. Passwords are never filled in, and files never sent.
"""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import Literal
from urllib.parse import urlencode, urlsplit, urlunsplit

import msgspec
from selectolax.lexbor import LexborNode

from mudlark.errors import Refused, UsageError
from mudlark.find.places.markup import parse
from mudlark.text import tidy
from mudlark.web.address import resolve

_MOST_FORMS = 50
_MOST_OPTIONS = 2_000
_MOST_CONTROLS = 5_000  # of one form
_TYPED = frozenset({"text", "search", "email", "url", "tel", "number", "date", "month", "week", "time", ""})
_SENT_AS_IS = frozenset({"hidden"})
_MOST_PIECES = 50  # of text in a label
_HIGHEST = 30  # elements above a control that are looked at
ANY = "*"
Labels = dict[str, str | None]  # by the id of what they label


class Option(msgspec.Struct, frozen=True):
    """One answer: what is read, and what is sent."""

    label: str
    value: str


class Question(msgspec.Struct):
    """One thing to choose. options: empty where any text may be given. given: what is sent if nothing is answered, None
    if an answer is needed. optional: nothing is sent if it is not answered. leads: each option's value is
    an address to go to.
    """

    name: str
    label: str | None
    options: list[Option] = msgspec.field(default_factory=list)
    given: str | None = None
    leads: bool = False
    optional: bool = False

    def is_called(self, name: str, whole: bool) -> bool:
        """True if a name in lower case is that of the question or its label, or else a part of one."""
        names = (self.name.lower(), (self.label or "").lower().rstrip(":"))
        return name in names if whole else any(name in own for own in names)


class Form(msgspec.Struct):
    """Questions that are sent together. hidden: fields that go along unseen. button: the one that sends it, if named.

    refused: why it is not sent: it wants a password or a file.
    """

    action: str
    method: Literal["GET", "POST"]
    questions: list[Question] = msgspec.field(default_factory=list)
    hidden: list[tuple[str, str]] = msgspec.field(default_factory=list)
    button: tuple[str, str] | None = None
    multipart: bool = False
    refused: str | None = None


class Answer(msgspec.Struct, frozen=True):
    """What the user answers: NAME=VALUE. value may be `*` for every option in turn."""

    name: str
    value: str

    @classmethod
    def of(cls, text: str) -> "Answer":
        name, equals, value = text.partition("=")
        if not equals or not name.strip():
            raise UsageError(f"{text!r} is no answer.", "Write it as --choose NAME=VALUE.")
        return cls(name.strip(), value.strip())

    def __str__(self) -> str:
        return f"{self.name}={self.value}"


class Step(msgspec.Struct, frozen=True):
    """A request that answers lead to. answered: the questions with the labels chosen."""

    url: str
    method: Literal["GET", "POST"]
    fields: tuple[tuple[str, str], ...]
    answered: tuple[tuple[str, str], ...]
    multipart: bool = False


def read_forms(source: str, url: str) -> list[Form]:
    """The forms of a page that ask something, and drop-downs outside of forms that lead to addresses."""
    tree = parse(source).tree
    node = tree.css_first("base[href]")
    base = (node and resolve(url, node.attributes.get("href") or "")) or url
    labels = {label.attributes.get("for") or "": tidy(label.text(), 120) for label in tree.css("label[for]")}
    apart: dict[str, list[LexborNode]] = defaultdict(list)  # controls that stand outside of their form, by its id
    for control in tree.css("[form]")[:_MOST_CONTROLS]:
        apart[control.attributes.get("form") or ""].append(control)
    forms = [_form(element, apart, labels, base, url) for element in tree.css("form")[:_MOST_FORMS]]
    asking = [form for form in forms if form.questions or form.refused]
    alone = (_leading(e, labels, base) for e in tree.css("select")[:_MOST_FORMS] if not _inside_form(e))
    return [*asking, *(Form(url, "GET", [question]) for question in alone if question)]


def _form(element: LexborNode, apart: Mapping[str, list[LexborNode]], labels: Labels, base: str, url: str) -> Form:
    attributes = element.attributes
    method: Literal["GET", "POST"] = "POST" if (attributes.get("method") or "").lower() == "post" else "GET"
    action = attributes.get("action") or url
    form = Form(resolve(base, action) or url, method)
    if resolve(base, action) is None:
        form.refused = f"it leads to {action[:40]!r}, which cannot be sent to"
    form.multipart = (attributes.get("enctype") or "").lower() == "multipart/form-data"
    controls = element.css("input, select, textarea, button")
    if identity := attributes.get("id"):
        inside = {control.mem_id for control in controls}
        controls += [control for control in apart.get(identity, ()) if control.mem_id not in inside]
    radios: dict[str, Question] = {}
    for control in controls[:_MOST_CONTROLS]:
        _read_control(form, control, labels, radios)
    return form


def _read_control(form: Form, control: LexborNode, labels: Labels, radios: dict[str, Question]) -> None:
    attributes = control.attributes
    name, kind = attributes.get("name") or "", (attributes.get("type") or "").lower()
    value = attributes.get("value") or ""
    if "disabled" in attributes or _is_disabled(control):
        return
    if control.tag == "button" or kind in ("submit", "image"):
        if name and form.button is None and kind in ("", "submit"):
            form.button = (name, value)
    elif kind == "password":
        form.refused = "it asks for a password, which is never filled in; log in with a browser, and use --cookie-file"
    elif kind == "file":
        form.refused = "it wants a file, and nothing is ever sent"
    elif not name:
        return
    elif control.tag == "select":
        form.questions.append(_select(control, labels, name))
    elif kind == "radio":
        if name not in radios:
            radios[name] = Question(name, _legend(control) or None, optional=True)
            form.questions.append(radios[name])
        radios[name].optional = radios[name].optional and "required" not in attributes
        radios[name].options.append(Option(_label(control, labels) or value, value or "on"))
        if "checked" in attributes:
            radios[name].given = value or "on"
    elif kind == "checkbox":
        question = Question(name, _label(control, labels), [Option("yes", value or "on"), Option("no", "")])
        question.given = (value or "on") if "checked" in attributes else ""
        form.questions.append(question)
    elif kind in _SENT_AS_IS:
        form.hidden.append((name, value))
    elif control.tag == "textarea" or kind in _TYPED:
        text = value or (tidy(control.text()) or "" if control.tag == "textarea" else "")
        given = None if "required" in attributes and not text else text
        form.questions.append(Question(name, _label(control, labels), [], given))


def _select(control: LexborNode, labels: Labels, name: str) -> Question:
    question = Question(name, _label(control, labels))
    for option in control.css("option")[:_MOST_OPTIONS]:
        attributes = option.attributes
        label = tidy(option.text()) or ""
        value = attributes.get("value")
        if "disabled" in attributes:
            continue
        chosen = Option(label, label if value is None else value)
        if not chosen.value:  # "Please choose": no answer
            continue
        question.options.append(chosen)
        if "selected" in attributes:
            question.given = chosen.value
    first = control.css_first("option")
    placeholder = first is not None and first.attributes.get("value") == ""
    if question.given is None and question.options and not placeholder:
        question.given = question.options[0].value
    return question


def _leading(element: LexborNode, labels: Labels, base: str) -> Question | None:
    """A drop-down outside of forms whose options are addresses."""
    question = _select(element, labels, element.attributes.get("name") or element.attributes.get("id") or "")
    addresses = [(option, resolve(base, option.value)) for option in question.options if "/" in option.value]
    if len(addresses) < max(1, len(question.options) - 1):
        return None
    question.options = [Option(option.label, url) for option, url in addresses if url]
    question.given, question.leads = None, True
    question.name = question.name or (question.label or "choice")
    return question


def _inside_form(element: LexborNode) -> bool:
    node = element.parent
    while node is not None:
        if node.tag == "form":
            return True
        node = node.parent
    return element.attributes.get("form") is not None


def _label(control: LexborNode, labels: Labels) -> str | None:
    """What a person reads beside a control."""
    attributes = control.attributes
    if (identity := attributes.get("id")) and identity in labels:
        return labels[identity]
    node = control.parent
    for _ in range(3):
        if node is not None and node.tag == "label":
            return _text_of(node, labels)
        node = node.parent if node is not None else None
    return tidy(attributes.get("aria-label") or attributes.get("title") or attributes.get("placeholder"), 120)


def _text_of(label: LexborNode, labels: Labels) -> str | None:
    """The text right inside a label; looked up once for each, as a label may hold thousands of controls."""
    known = f"\0{label.mem_id}"
    if known not in labels:
        pieces = []
        for child in label.iter(include_text=True):
            if child.tag == "-text":
                pieces.append(child.text(deep=True))
            if len(pieces) >= _MOST_PIECES:
                break
        labels[known] = tidy(" ".join(pieces), 120)
    return labels[known]


def _is_disabled(control: LexborNode) -> bool:
    """True inside of a fieldset that is disabled, but not inside of its legend (HTML §4.10.18.5)."""
    inside, node = control, control.parent
    for _ in range(_HIGHEST):
        if node is None or node.tag == "form":
            return False
        if node.tag == "fieldset" and "disabled" in node.attributes and inside.tag != "legend":
            return True
        inside, node = node, node.parent
    return False


def _legend(control: LexborNode) -> str | None:
    node = control.parent
    for _ in range(6):
        if node is not None and node.tag == "fieldset":
            legend = node.css_first("legend")
            return tidy(legend.text()) if legend else None
        node = node.parent if node is not None else None
    return None


def find_question(forms: Sequence[Form], name: str) -> tuple[Form, Question] | None:
    """The question that a name means, by its name or its label; None if no form asks it."""
    wanted = name.lower()
    asked = [(form, question) for form in forms for question in form.questions]
    for whole in (True, False):
        fitting = [(form, question) for form, question in asked if question.is_called(wanted, whole)]
        names = {question.name for _, question in fitting}
        if len(names) > 1:
            raise UsageError(f"{name!r} may be any of {_listed(sorted(names))}.", "Give the whole name.")
        if fitting:
            return fitting[0]
    return None


def find_option(question: Question, value: str) -> Option:
    """The option that a value means, by label or value; where any text may be given, that text."""
    if not question.options:
        return Option(value, value)
    wanted = value.lower()
    whole = [o for o in question.options if wanted in (o.label.lower(), o.value.lower())]
    fitting = whole or [
        o for o in question.options if wanted and (wanted in o.label.lower() or wanted in o.value.lower())
    ]
    if len({option.value for option in fitting}) == 1:
        return fitting[0]
    title = question.label or question.name
    if not fitting:
        labels = [option.label for option in question.options]
        raise UsageError(f"{title!r} has no option {value!r}.", f"It has {_listed(labels)}.")
    raise UsageError(
        f"{value!r} may be any of {_listed([o.label for o in fitting])}.", f"Say which {title!r} is meant."
    )


def _listed(words: Sequence[str]) -> str:
    shown = ", ".join(repr(word) for word in words[:12])
    return shown if len(words) <= 12 else f"{shown} and {len(words) - 12} more"


def step_of(forms: Sequence[Form], answers: Sequence[Answer]) -> tuple[Step, list[Answer]] | None:
    """The request that the next answers lead to, and the answers that are left; None if no form asks the next one."""
    if not answers:
        return None
    asking = find_question(forms, answers[0].name)
    if asking is None:
        return None
    form, question = asking
    if form.refused:
        raise Refused(f"The form at {form.action} is not sent: {form.refused}.")
    if question.leads:
        option = find_option(question, answers[0].value)
        return Step(option.value, "GET", (), ((question.name, option.label),)), list(answers[1:])
    chosen: dict[str, Option] = {}
    left = list(answers)
    while left and (same := find_question([form], left[0].name)) and same[1].name not in chosen:
        chosen[same[1].name] = find_option(same[1], left.pop(0).value)
    fields = list(form.hidden)
    unused = dict(chosen)
    for asked in form.questions:
        answer = unused.pop(asked.name, None)  # of several controls of one name, the first
        value = answer.value if answer else asked.given
        if value is None and asked.optional:
            continue
        if value is None:
            labels = [option.label for option in asked.options]
            raise UsageError(
                f"{asked.label or asked.name!r} is not answered yet.",
                f"Add --choose {asked.name}=… with one of {_listed(labels)}."
                if labels
                else f"Add --choose {asked.name}=…",
            )
        if value or asked.options == [] or answer:
            fields.append((asked.name, value or ""))
    if form.button:
        fields.append(form.button)
    answered = tuple((name, option.label) for name, option in chosen.items())
    if form.method == "GET":
        parts = urlsplit(form.action)
        return Step(urlunsplit(parts._replace(query=urlencode(fields))), "GET", (), answered), left
    return Step(form.action, "POST", tuple(fields), answered, form.multipart), left
