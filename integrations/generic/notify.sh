#!/bin/sh
# notify.sh PATH...: says that files were written to their end or deleted, by their paths in the library.
# Needs PLUMCRATE_URL, PLUMCRATE_LIBRARY and PLUMCRATE_HOOK_SECRET (plumcrate hook-secret LIBRARY).
# A message is signed by the Standard Webhooks scheme: HMAC-SHA256 of "id.timestamp.body".
set -eu
paths=
for path in "$@"; do
  paths="$paths${paths:+, }\"$(printf %s "$path" | sed 's/[\\"]/\\&/g')\""
done
body="{\"type\": \"files.changed\", \"data\": {\"paths\": [$paths], \"whole\": true}}"
id="msg_$(openssl rand -hex 16)"
now=$(date +%s)
key=$(printf %s "${PLUMCRATE_HOOK_SECRET#whsec_}" | openssl base64 -d -A | od -An -v -tx1 | tr -d ' \n')
signature=$(printf %s "$id.$now.$body" | openssl dgst -sha256 -mac HMAC -macopt "hexkey:$key" -binary | openssl base64 -A)
curl -sS --fail-with-body --data-binary "$body" -H 'Content-Type: application/json' \
  -H "webhook-id: $id" -H "webhook-timestamp: $now" -H "webhook-signature: v1,$signature" \
  "$PLUMCRATE_URL/api/v1/hooks/$PLUMCRATE_LIBRARY"
