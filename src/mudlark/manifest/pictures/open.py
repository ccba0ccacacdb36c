"""From a description of pictures to a presentation of page images, asking image services what they offer."""

import asyncio
from collections.abc import Iterable
from io import BytesIO
from math import inf
from urllib.parse import unquote, urlsplit

from msgspec.structs import replace
from PIL import Image

from mudlark.errors import MudlarkError
from mudlark.guard import reading
from mudlark.manifest.model import Document, ManifestRemark, Picture, Presentation, Rendition, Segment
from mudlark.manifest.pictures.canvases import Canvas, read_folio
from mudlark.manifest.pictures.pyramid import read_pyramid
from mudlark.manifest.pictures.service import Service, largest, read_service
from mudlark.media.sniff import sniff
from mudlark.together import together
from mudlark.web.answer import Content
from mudlark.web.resource import Resource
from mudlark.web.session import Session

_AT_ONCE = 4


def wants_json(head: bytes, _kind: str) -> bool:
    """True if an answer that begins so may describe an image service."""
    return sniff(head) in ("json", "iiif", "iiif-image")


async def open_pictures(session: Session, look: Content) -> Presentation:
    """The pictures that an answer describes. Raises ManifestError where it describes none."""
    form = sniff(look.body)
    if form == "iiif":
        return await _open_folio(session, look)
    if form == "dzi":
        return _presentation(look, [read_pyramid(look.body, look.url)], (), alone=True)
    service = read_service(look.body, look.url)
    title = unquote(service.base.rpartition("/")[2])
    return _presentation(look, [largest(await _proven(session, service))], (), alone=True, title=title)


async def _proven(session: Session, service: Service) -> Service:
    """A service with the limit that it does not state, if it gives less than all when it is asked for all."""
    if not service.gives_all or service.level == 0:
        return service
    _, (resource,) = largest(service)
    try:
        head = (await session.glance(resource.url)).body
        with reading("The picture"), Image.open(BytesIO(head)) as image:
            width, height = image.size
    except MudlarkError:
        return service
    return service if width >= service.width else replace(service, most=(width, height, width * height))


async def _open_folio(session: Session, look: Content) -> Presentation:
    folio = read_folio(look.body, look.url)
    gate = asyncio.Semaphore(_AT_ONCE)
    limits: dict[str, asyncio.Task[Service]] = {}

    async def limited(service: Service) -> Service:
        """The service with the limits of its host, which one picture tells."""
        host = urlsplit(service.base).netloc
        if host not in limits:
            limits[host] = asyncio.create_task(_proven(session, service))
        first = await limits[host]
        return service if first.most == (inf, inf, inf) else replace(service, most=first.most)

    async def picture(canvas: Canvas) -> tuple[Picture, list[Resource]]:
        plain = Picture(0, 0, canvas.label), [Resource(canvas.picture)]
        if not canvas.service:
            return plain
        async with gate:
            try:
                answer = await session.look(f"{canvas.service}/info.json", wants_json)
                return largest(await limited(read_service(answer.body, answer.url)), canvas.label)
            except MudlarkError:  # the address that the manifest itself gives is there in any case
                return plain

    pictures = await together(picture(canvas) for canvas in folio.canvases)
    notes = list(folio.notes)
    if more := sum(canvas.more for canvas in folio.canvases):
        notes.append(ManifestRemark("further images", f"{more} images that are painted over others are left out"))
    return _presentation(look, pictures, notes, title=folio.title)


def _presentation(
    look: Content,
    pictures: Iterable[tuple[Picture, list[Resource]]],
    notes: Iterable[ManifestRemark],
    *,
    alone: bool = False,
    title: str | None = None,
) -> Presentation:
    listed = list(pictures)
    resources = [resource for _, parts in listed for resource in parts]
    segments = tuple(Segment(number, resource) for number, resource in enumerate(resources))
    return Presentation(
        look.url,
        "images",
        (Rendition("pages", "other", resources[0].url, segments=segments),),
        (Document(look.url, look.body),),
        tuple(notes),
        pictures=tuple(picture for picture, _ in listed),
        alone=alone,
        title=title,
    )
