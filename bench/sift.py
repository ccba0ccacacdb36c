"""Reading and ranking large pages: CPU after start, against the HTML library's parse alone, and peak memory."""

import random
import resource
import time

from selectolax.lexbor import LexborHTMLParser

from mudlark.find.judge.rank import rank
from mudlark.find.places.page import read_page


def page(megabytes: float) -> str:
    """A page of links, pictures, attributes and scripts, most of it nothing, as real pages are."""
    chance = random.Random(5)
    words = ["tide", "mill", "wall", "horn", "keeper", "shore", "wreck", "lamp", "slip", "quay"]
    parts = ["<!doctype html><title>The Tide Mill</title>"]
    size = 0
    number = 0
    while size < megabytes * 1e6:
        number += 1
        text = " ".join(chance.choices(words, k=30))
        part = f'<div class="card c{number}" data-id="{number}"><a href="/gallery/{number}?from=list">{text}</a>'
        if number % 2:
            sizes = f"/pictures/{number}-600x400.jpg 2x"
            part += f'<img src="/pictures/{number}-300x200.jpg" srcset="{sizes}" alt="{text[:20]}">'
        if number % 20 == 0:
            state = ",".join(f'"k{n}":"{chance.choice(words)} {n}"' for n in range(60))
            part += f'<script>window.s{number} = {{{state},"u":"https:\\/\\/media.example\\/{number}.mp4"}};</script>'
        part += f'<p onclick="show({number})">{text}</p></div>\n'
        size += len(part)
        parts.append(part)
    return "".join(parts)


def main() -> None:
    print(f"{'page':<10}{'parse s':>10}{'ours s':>10}{'ratio':>8}{'finds':>8}")
    for megabytes in (1, 5):
        source = page(megabytes)
        parse = ours = 1e9
        for _ in range(3):
            begun = time.process_time()
            LexborHTMLParser(source)
            parse = min(parse, time.process_time() - begun)
            begun = time.process_time()
            found = read_page(source, "http://museum.example/")
            rank(found)
            ours = min(ours, time.process_time() - begun)
        print(f"{megabytes} MB      {parse:>10.3f}{ours:>10.3f}{ours / parse:>8.1f}{len(found.finds):>8}")
    print(f"peak {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
