"""Constructs that are made to hurt whoever reads them: each gives about so many characters of markup."""

from collections.abc import Callable


def _filled(unit: str, size: int) -> str:
    return (unit * (size // len(unit) + 1))[:size]


def _counted(unit: Callable[[int], str], size: int) -> str:
    parts: list[str] = []
    length = 0
    while length < size:
        parts.append(unit(len(parts)))
        length += len(parts[-1])
    return "".join(parts)


CONSTRUCTS: dict[str, Callable[[int], str]] = {
    "reopened formatting": lambda n: _counted(lambda i: f"<p><b a={i}>", n),
    "fonts before paragraphs": lambda n: _counted(lambda i: f"<font c={i}>", n // 3) + _filled("<p>x", n),
    "templates": lambda n: _filled("<template>", n),
    "divisions": lambda n: _filled("<div>", n),
    "links and divisions": lambda n: _counted(lambda i: f"<a href=/{i}.mp4><div>", n),
    "spans around links": lambda n: _filled("<span>", 1_500) + _counted(lambda i: f"<a href=/{i}.mp4>x</a>", n),
    "item properties": lambda n: _filled("<div itemprop=name>x", n),
    "options": lambda n: "<form><select name=a>" + _filled("<option>x", n),
    "attributes": lambda n: "<div " + _counted(lambda i: f"a{i}=1 ", n) + ">",
    "many attributes": lambda n: _counted(lambda i: "<img " + "".join(f"a{j}=1 " for j in range(900)) + ">", n),
    "long paths in JSON": lambda n: "<div data-x='{\"" + "k" * (n // 2) + '":[' + '"",' * (n // 8) + '""]}\'>',
    "almost an address": lambda n: '<div data-x="' + _filled("a.aa?", n) + ' b">',
    "escapes": lambda n: "<script>" + _filled('\\"', n) + "</script>",
    "quotes and escapes": lambda n: "<script>" + _filled('"\\"', n) + "</script>",
    "backticks": lambda n: "<script>" + _filled("`", n) + "</script>",
    "open comments in a script": lambda n: "<script>" + _filled("/*", n) + "</script>",
    "open objects": lambda n: "<script>" + _filled('{"/a":', n) + "</script>",
    "addresses without quotes": lambda n: (
        "<script>" + _counted(lambda i: f"http://a.example/{i}.mp4 ", n) + "</script>"
    ),
    "an event handler": lambda n: "<a onclick='" + _filled('\\"', n) + "'>",
    "a label of radios": lambda n: "<form><label>" + _counted(lambda i: f"<input type=radio name=a value={i}>t", n),
    "open labels": lambda n: "<form>" + _filled("<label>x<input type=radio name=b>", n),
    "entities in addresses": lambda n: _counted(lambda i: f'<img src="&#97;{i}.jpg">', n),
    "scripts with two line ends": lambda n: _filled('<script>\r\nx("a")\r\n</script>', n),
    "comments": lambda n: _filled("<!-- <a href=/a.mp4> -->", n),
    "open comments": lambda n: _filled("<!-- ", n),
    "style sheets": lambda n: "<style>" + _filled("url(", n) + "</style>",
    "candidates": lambda n: '<img srcset="' + _counted(lambda i: f"/{i}.jpg {i}w, ", n) + '">',
    "frames": lambda n: _counted(lambda i: f"<iframe src=/f{i}></iframe>", n),
    "open scripts": lambda n: _filled("<script>", n),
    "tables": lambda n: _filled("<table><tr><td>", n),
    "drawings": lambda n: _filled("<svg><g>", n),
    "forms apart from their controls": lambda n: _counted(
        lambda i: f"<form id=f{i}><input form=f{i} name=n></form>", n
    ),
    "deep JSON": lambda n: "<script type=application/json>" + _filled("[", n) + "</script>",
}
