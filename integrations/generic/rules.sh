#!/bin/sh
# rules.sh nginx|apache|caddy FILE: writes the rules for the site's own server. FILE changes only when all went
# well, so that it can be run again and again, by cron for one.
# Needs PLUMCRATE_URL, PLUMCRATE_LIBRARY and PLUMCRATE_KEY, a key that may look.
set -eu
curl -sS --fail -o "$2.new" -H "Authorization: Bearer $PLUMCRATE_KEY" \
  "$PLUMCRATE_URL/api/v1/libraries/$PLUMCRATE_LIBRARY/server-rules/$1"
mv "$2.new" "$2"
