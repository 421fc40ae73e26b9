"""A Wagtail site's images: which rendition was made of which, what they weigh, where they are cut."""
