"""What a file says of itself in words, as XMP (ISO 16684-1): whose it is, what it shows, and that it is a sphere."""

from __future__ import annotations

from collections.abc import Mapping
from xml.sax.saxutils import escape

from idle_lantern.core.frames.metadata import Metadata

#: Namespaces of the photo-sphere schema, of Dublin Core, and of what holds them, as published.
_GPANO = "http://ns.google.com/photos/1.0/panorama/"
_DC = "http://purl.org/dc/elements/1.1/"
_RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"


def xmp_packet(meta: Metadata, sphere: Mapping[str, str] | None = None) -> bytes:
    """The packet; empty where there is nothing to say. ``sphere`` are fields of the photo-sphere schema."""
    told = [f"   <GPano:{name}>{escape(value)}</GPano:{name}>" for name, value in (sphere or {}).items()]
    if meta.author:
        told.append(f"   <dc:creator><rdf:Seq><rdf:li>{escape(meta.author)}</rdf:li></rdf:Seq></dc:creator>")
    for name, words in (("rights", meta.rights), ("description", meta.description)):
        if words:
            item = f'<rdf:li xml:lang="x-default">{escape(words)}</rdf:li>'
            told.append(f"   <dc:{name}><rdf:Alt>{item}</rdf:Alt></dc:{name}>")
    if not told:
        return b""
    body = "\n".join(told)
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>\n'
        f'<rdf:RDF xmlns:rdf="{_RDF}">\n'
        f'  <rdf:Description rdf:about="" xmlns:GPano="{_GPANO}" xmlns:dc="{_DC}">\n{body}\n  </rdf:Description>\n</rdf:RDF>\n'
        '<?xpacket end="w"?>'
    ).encode()
