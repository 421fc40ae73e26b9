"""Metadata kept by kind: Exif, IPTC and XMP, and where JPEG and PNG carry them."""
