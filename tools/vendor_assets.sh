#!/usr/bin/env bash
# Copy fonts, icons and htmx from node_modules into the application (committed; run after npm ci).
set -euo pipefail
cd "$(dirname "$0")/.."
static=src/vinter/web/static
for name in next mono; do
    cp "node_modules/@fontsource-variable/atkinson-hyperlegible-$name/files/atkinson-hyperlegible-$name-latin-wght-normal.woff2" \
        "$static/fonts/atkinson-$name.woff2"
done
cp node_modules/htmx.org/dist/htmx.min.js "$static/vendor/htmx.min.js"
grep -v '^//# sourceMappingURL' node_modules/leaflet/dist/leaflet.js >"$static/vendor/leaflet.js"
sed '/url(images/d' node_modules/leaflet/dist/leaflet.css >"$static/vendor/leaflet.css"
{
    echo '<svg xmlns="http://www.w3.org/2000/svg">'
    for icon in moon calendar camera download upload printer check x plus trash-2 arrow-left arrow-right circle-help undo-2; do
        echo "<symbol id=\"$icon\" viewBox=\"0 0 24 24\" fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\" stroke-linecap=\"round\" stroke-linejoin=\"round\">"
        sed -n '/^>/,/^<\/svg>/p' "node_modules/lucide-static/icons/$icon.svg" | sed '1d;$d'
        echo '</symbol>'
    done
    echo '</svg>'
} >"$static/vendor/icons.svg"
mkdir -p docs/licenses
cp node_modules/@fontsource-variable/atkinson-hyperlegible-next/LICENSE docs/licenses/atkinson-hyperlegible.txt
cp node_modules/htmx.org/LICENSE docs/licenses/htmx.txt
cp node_modules/lucide-static/LICENSE docs/licenses/lucide.txt
cp node_modules/leaflet/LICENSE docs/licenses/leaflet.txt
cp node_modules/world-atlas/LICENSE docs/licenses/world-atlas.txt
cp node_modules/d3-celestial/LICENSE docs/licenses/d3-celestial.txt
