#!/usr/bin/env bash
# Copies the front-end files that ship with the application from their packages, with their licences.
# Only for whoever raises a version; running the application needs none of this.
set -euo pipefail
cd "$(dirname "$0")/vendor"
npm ci --ignore-scripts --omit=dev
to=../../silent_loom/web/static/vendor
from=node_modules
rm -rf "$to"
mkdir -p "$to"/{bootstrap,alpine,three,figtree,icons}
cp $from/bootstrap/dist/css/bootstrap.min.css $from/bootstrap/dist/js/bootstrap.bundle.min.js $from/bootstrap/LICENSE "$to/bootstrap/"
sed -i '/sourceMappingURL/d' "$to"/bootstrap/*
cp $from/@alpinejs/csp/dist/module.esm.min.js "$to/alpine/alpine.csp.min.js"
cat > "$to/alpine/LICENSE" <<'L'
Alpine.js, CSP build. MIT License. Copyright © 2019-2025 Caleb Porzio and contributors.
Permission is hereby granted, free of charge, to any person obtaining a copy of this software and associated documentation files (the "Software"), to deal in the Software without restriction, including without limitation the rights to use, copy, modify, merge, publish, distribute, sublicense, and/or sell copies of the Software, and to permit persons to whom the Software is furnished to do so, subject to the following conditions: The above copyright notice and this permission notice shall be included in all copies or substantial portions of the Software. THE SOFTWARE IS PROVIDED "AS IS", WITHOUT WARRANTY OF ANY KIND, EXPRESS OR IMPLIED, INCLUDING BUT NOT LIMITED TO THE WARRANTIES OF MERCHANTABILITY, FITNESS FOR A PARTICULAR PURPOSE AND NONINFRINGEMENT. IN NO EVENT SHALL THE AUTHORS OR COPYRIGHT HOLDERS BE LIABLE FOR ANY CLAIM, DAMAGES OR OTHER LIABILITY, WHETHER IN AN ACTION OF CONTRACT, TORT OR OTHERWISE, ARISING FROM, OUT OF OR IN CONNECTION WITH THE SOFTWARE OR THE USE OR OTHER DEALINGS IN THE SOFTWARE.
L
cp $from/three/build/three.module.js $from/three/build/three.core.js $from/three/LICENSE "$to/three/"
cp $from/@fontsource-variable/figtree/files/figtree-latin-wght-normal.woff2 $from/@fontsource-variable/figtree/files/figtree-latin-ext-wght-normal.woff2 $from/@fontsource-variable/figtree/LICENSE "$to/figtree/"
cp $from/@tabler/icons/LICENSE "$to/icons/"
{
  echo '<svg xmlns="http://www.w3.org/2000/svg">'
  for icon in arrow-back-up arrow-forward-up plus trash copy pencil x check history download player-stop sun moon keyboard eye power grip-vertical refresh photo-up restore zoom-in layout-columns square columns-2 alert-triangle corner-up-left help package bulb; do
    sed -n '/<svg/,/<\/svg>/p' "$from/@tabler/icons/icons/outline/$icon.svg" | tr '\n' ' ' |
      sed -E "s/<svg[^>]*>/<symbol id=\"icon-$icon\" viewBox=\"0 0 24 24\" fill=\"none\" stroke=\"currentColor\" stroke-width=\"1.75\" stroke-linecap=\"round\" stroke-linejoin=\"round\">/; s/<\/svg>/<\/symbol>/"
    echo
  done
  echo '</svg>'
} > "$to/icons/icons.svg"
