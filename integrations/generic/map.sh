#!/bin/sh
# map.sh FILE: says which file of the site was made of which. FILE holds JSON lines:
#   {"path": "cache/kite-300.jpg", "original": "uploads/kite.jpg", "made_by": "300"}
# Needs PLUMCRATE_URL, PLUMCRATE_LIBRARY and PLUMCRATE_KEY, a key that may administer the library.
set -eu
curl -sS --fail-with-body -T "$1" -H "Authorization: Bearer $PLUMCRATE_KEY" \
  "$PLUMCRATE_URL/api/v1/libraries/$PLUMCRATE_LIBRARY/mapping"
