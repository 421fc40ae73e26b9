"""``script/bench NAME``: measures one thing and prints a table; ``script/bench`` lists the names."""

from __future__ import annotations

import sys
from importlib import import_module

NAMES = {
    "score": "the score: agreement with the oracle, megapixels a second",
    "jpeg": "our JPEG: exact recompression; lossy against Pillow at an equal score",
    "measures": "what other measures say of our JPEG, at an equal score",
    "fuzz": "mutated files of nine formats: no crash, no hang, no changed pixel",
    "aim": "landing on a score: encodes needed, points off, bytes saved, per encoder",
    "png": "our PNG: exact by effort, lossy by level, on drawings and wallpapers",
    "drawn": "drawn pictures: flat colours, smooth ground, worst places, against a plain palette",
    "gif": "our GIF: exact, and animated copies, on drawn animations",
    "other": "drawings and documents: bytes, against packing alone; drawings in Chromium, before and after",
    "near": "near duplicates: recall and precision on changed wallpapers, the index at half a million",
    "copies": "WebP and AVIF at an equal score against Pillow's defaults",
    "treat": "a full treatment against a plain script: bytes, scores, CPU",
    "memory": "peak memory of one treatment, per megapixel",
    "priors": "fits what quality a picture will need; writes imaging/priors.json",
    "plots": "rate against score of every encoder, into docs/imaging",
    "scale": "a library of 200,000 files: surveys, run creation, queries, memory",
    "lists": "lists of half a million pictures: facets, and pages far down",
    "walk": "walking through 100,000 pictures while a thousand come, go and move",
    "faults": "kills, unmounts, renames, writers in place, full disks, a dead database: nothing lost or torn",
    "mixed": "all kinds of work at once with worker and PostgreSQL killed, then handed back: every original",
    "schedules": "random schedules of changes and mishaps in a small world in memory: nothing lost",
    "attack": "the service under bodies of a gigabyte, slow connections, waiting uploads and previews",
    "walls": "what shutting the decoders in costs a bulk run",
    "interface": "the interface against its own description, many times more than in the tests",
    "serving": "served copies a second, against the framework's static files and nginx",
    "seen": "grain and texture that results keep, and what keeping them costs",
    "eye": "what an eye sees of 200 crops, and how often the measures agree with it",
    "site": "a real site: set-up, renditions, its front page, uploads until they are light, visitors",
    "layout": "pages of real documentation drawn before and after rewriting: boxes that moved",
    "pages": "500 pages of real documentation rewritten: nothing else changed, MB/s",
    "weighing": "repeats of one page, and what is found on 20 pages of real documentation",
    "uploads": "a large upload over a line that is cut: bytes sent twice, the service's memory",
    "accesslog": "an access log of a gigabyte: seconds, memory",
    "shapes": "sizes: our downscale against Pillow's, and what cuts keep of the subject",
    "places": "sizes and watermarks at scale: 10,000 pictures, five sizes; 1,000 files with and without",
    "idle": "what it costs to have nothing to do, and what a run costs beside its children",
    "busy": "bulk work, the site's answers and a person's waiting on an idle and on busy machines",
    "load": "two workers, uploads during a run, the site's answers, twenty kills",
}


def main() -> int:
    if len(sys.argv) < 2 or sys.argv[1] not in NAMES:
        for name, what in NAMES.items():
            print(f"  script/bench {name:8} {what}")
        return 0 if len(sys.argv) == 1 else 2
    name = sys.argv.pop(1)
    import_module(f"bench.{name}").main()
    return 0


if __name__ == "__main__":
    sys.exit(main())
