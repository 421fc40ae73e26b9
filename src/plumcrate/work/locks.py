"""The advisory locks that all workers share: a space and, in it, a key."""

#: One picture at a time; the key is the picture's id.
PICTURE_LOCK = 727_010
#: One survey, check or intake of a library at a time; the key is the library's id.
LIBRARY_LOCK = 727_011
FEEDER_LOCK = (727_012, 1)
INTAKE_LOCK = 727_013
WATCH_LOCK = 727_014
