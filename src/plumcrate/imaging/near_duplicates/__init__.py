"""Near duplicates: pictures that show the same, though scaled, cropped, turned, tinted or compressed again.

A picture's *perceptual hash* (:mod:`.hashing`) holds its *features* (places that look distinctive at some
scale, each with 64 bits that describe what is around it) and a small grey *thumbnail*. Candidates share bits
(:mod:`.index`); two pictures match where one similarity transform carries features of one onto the other's,
and the thumbnails agree under it (:mod:`.matching`).

Features after D. G. Lowe, "Distinctive image features from scale-invariant keypoints", IJCV 60 (2004); bits
after M. S. Charikar, "Similarity estimation techniques from rounding algorithms", STOC 2002.
"""
