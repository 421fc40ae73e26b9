"""Lists of pages: sitemaps and plain lines."""

from __future__ import annotations

import gzip

import pytest

from plumcrate.pages.faults import Fault, of_network
from plumcrate.pages.plain import _named, _unpacked, read_list

SITEMAP = b"""<?xml version="1.0" encoding="UTF-8"?>
<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
<url><loc> https://ledge.example/ </loc><lastmod>2026-01-01</lastmod></url>
<url><loc>https://ledge.example/visit?a=1&amp;b=2</loc></url></urlset>"""
INDEX = b"""<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
<sitemap><loc>https://ledge.example/more.xml</loc></sitemap></sitemapindex>"""


def test_a_sitemap_names_pages_and_an_index_names_lists() -> None:
    assert read_list(SITEMAP) == ([], ["https://ledge.example/", "https://ledge.example/visit?a=1&b=2"])
    assert read_list(INDEX) == (["https://ledge.example/more.xml"], [])


def test_plain_lines_are_a_list_too() -> None:
    assert read_list(b"\xef\xbb\xbfhttps://a.example/\r\n\r\nnonsense\nhttp://b.example/x\n") == (
        [],
        ["https://a.example/", "http://b.example/x"],
    )


@pytest.mark.parametrize(
    "body",
    [b"<urlset><loc>", b"<!DOCTYPE x [<!ENTITY a 'b'>]><urlset><loc>&a;</loc></urlset>", b"<\xff\xfe"],
)
def test_what_is_no_list_says_so(body: bytes) -> None:
    with pytest.raises(Fault, match="neither a sitemap"):
        read_list(body)


def test_a_packed_list_is_unpacked_but_not_without_end() -> None:
    assert _unpacked(gzip.compress(SITEMAP)) == SITEMAP
    assert _unpacked(SITEMAP) == SITEMAP
    with pytest.raises(Fault, match="too large"):
        _unpacked(gzip.compress(bytes(30_000_000)))
    with pytest.raises(Fault, match="damaged"):
        _unpacked(gzip.compress(SITEMAP)[:-20])


def test_a_page_names_its_styles_scripts_and_the_pictures_a_modern_browser_would_take() -> None:
    page = """<base href="/sub/"><link rel="stylesheet" href="s.css"><script src="/x.js"></script>
    <picture><source type="image/avif" srcset="a.jpg.avif"><img src="a.jpg" loading="lazy"></picture>
    <img src="a.jpg" width="3" height="4"><img src="data:image/png;base64,AA">
    <img src="//cdn.example/c.png">"""
    named = _named(page, "https://ledge.example/page")
    assert [(address, kind) for address, kind, _ in named] == [
        ("https://ledge.example/sub/s.css", "styles"),
        ("https://ledge.example/x.js", "scripts"),
        ("https://ledge.example/sub/a.jpg.avif", "pictures"),
        ("https://ledge.example/sub/a.jpg", "pictures"),
        ("https://cdn.example/c.png", "pictures"),
    ]


@pytest.mark.parametrize(
    ("said", "code"),
    [
        ("Page.goto: net::ERR_TOO_MANY_REDIRECTS at https://x", "redirects"),
        ("net::ERR_CERT_AUTHORITY_INVALID", "certificate"),
        ("net::ERR_UNSAFE_PORT", "unsafe-port"),
        ("net::ERR_INVALID_HTTP_RESPONSE", "not-http"),
        ("net::ERR_SOMETHING_NEW at https://x", "no-answer"),
    ],
)
def test_network_errors_are_told_in_plain_words(said: str, code: str) -> None:
    fault = of_network(said, "https://x.example/", {})
    assert fault.code == code
    assert "net::" not in str(fault)


def test_what_the_tunnel_knows_goes_before_what_the_browser_says() -> None:
    reasons = {"x.example:443": "x.example:443 is not a public address, and is not listed as allowed"}
    assert of_network("net::ERR_SOCKS_CONNECTION_FAILED", "https://x.example/", reasons).code == "not-allowed"
    sent_on = {
        "127.0.0.1:22": "127.0.0.1:22 is an address of this machine itself, and is not listed as allowed"
    }
    assert of_network("net::ERR_SOCKS_CONNECTION_FAILED", "https://x.example/", sent_on).code == "not-allowed"
