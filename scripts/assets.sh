#!/bin/sh
# Builds what the browser loads into web/static/dist, from the packages in package-lock.json.
set -eu
cd "$(dirname "$0")/.."
out=src/vornet/web/static/dist
src=src/vornet/web/static
mkdir -p "$out/fonts"
for weight in 400 500 600; do
  cp "node_modules/@fontsource/barlow/files/barlow-latin-$weight-normal.woff2" "$out/fonts/"
  cp "node_modules/@fontsource/barlow-semi-condensed/files/barlow-semi-condensed-latin-$weight-normal.woff2" "$out/fonts/"
done
cp node_modules/htmx.org/dist/htmx.min.js "$src/app.js" "$src/theme.js" "$src/job_rules.js" "$src/job_queue.js" "$src/job_scan.js" "$src/job.js" node_modules/jsqr/dist/jsQR.js node_modules/vanillajs-datepicker/dist/js/datepicker.min.js "$src/notes.js" "$src/away.js" "$src/away_worker.js" "$src/interval.js" "$src/weeks.js" "$src/mark.svg" "$out/"
node node_modules/@tailwindcss/cli/dist/index.mjs -i "$src/app.css" -o "$out/app.css" --minify
.venv/bin/mkdocs build --quiet # what people read, served at /docs
