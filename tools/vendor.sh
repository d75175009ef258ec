#!/usr/bin/env bash
# Fetches the front-end packages with npm and puts what the pages use under
# fernfield/web/static/vendor/. Needs Node; the application itself does not.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
to="$here/fernfield/web/static/vendor"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cp "$here/tools/vendor.json" "$work/package.json"
cd "$work"
npm install --no-audit --no-fund --no-package-lock --silent
m="$work/node_modules"
rm -rf "$to"
mkdir -p "$to"
cp "$m/htmx.org/dist/htmx.min.js" "$to/htmx.js"
cp "$m/idiomorph/dist/idiomorph-ext.min.js" "$to/idiomorph-ext.js"
cp "$m/@alpinejs/csp/dist/module.esm.min.js" "$to/alpine.js"
cp "$m/bootstrap/dist/css/bootstrap.min.css" "$to/bootstrap.css"
cp "$m/bootstrap/dist/js/bootstrap.bundle.min.js" "$to/bootstrap.js"
sed -i '/sourceMappingURL/d' "$to/bootstrap.css" "$to/bootstrap.js"
cp "$m/@fontsource-variable/archivo/files/archivo-latin-wght-normal.woff2" "$to/archivo.woff2"
for weight in 400 500; do
  cp "$m/@fontsource/spline-sans-mono/files/spline-sans-mono-latin-$weight-normal.woff2" "$to/spline-sans-mono-$weight.woff2"
done
# Only what the drawn parts of the page import; tree shaking drops the rest.
cat > entry.js <<'JS'
export {
  BufferAttribute, BufferGeometry, CanvasTexture, Color, ColorManagement, ConeGeometry, CylinderGeometry, BoxGeometry,
  DoubleSide, Group, IcosahedronGeometry, InstancedBufferAttribute, InstancedMesh, Line, LineBasicMaterial,
  LineLoop, LinearFilter, LinearMipmapLinearFilter, Matrix4, Mesh, MeshBasicMaterial, NoColorSpace, Object3D,
  PerspectiveCamera, PlaneGeometry, Quaternion, Raycaster, Scene, ShaderMaterial, Vector2, Vector3, WebGLRenderer,
  LinearSRGBColorSpace, Sphere, Float32BufferAttribute, DataArrayTexture, DataTexture, RedFormat, RGBAFormat, RepeatWrapping,
  Vector4, BackSide, LineSegments, Points, SphereGeometry
} from "three";
JS
printf 'export * from "three";\n' > "$to/three.d.ts"
printf 'import Alpine from "alpinejs";\nexport default Alpine;\n' > "$to/alpine.d.ts"
npx esbuild entry.js --bundle --minify --format=esm --legal-comments=none --outfile="$to/three.js" --log-level=warning
mkdir -p "$to/licences"
for p in htmx.org idiomorph @alpinejs/csp bootstrap three @fontsource-variable/archivo @fontsource/spline-sans-mono; do
  f=$(ls "$m/$p"/LICEN[SC]E* 2>/dev/null | head -n1 || true)
  [ -n "$f" ] && cp "$f" "$to/licences/$(echo "$p" | tr '/@' '__').txt"
done
echo "@alpinejs/csp is under the MIT licence, (c) Caleb Porzio and contributors; its package carries no licence file." \
  > "$to/licences/_alpinejs_csp.txt"
node -e '
const fs = require("fs");
const names = ["htmx.org", "idiomorph", "@alpinejs/csp", "bootstrap", "three", "@fontsource-variable/archivo", "@fontsource/spline-sans-mono"];
const rows = names.map((n) => { const p = JSON.parse(fs.readFileSync(`node_modules/${n}/package.json`)); return `| ${n} | ${p.version} | ${p.license} |`; });
fs.writeFileSync(process.argv[1], ["# Front-end packages", "", "Refreshed by `tools/vendor.sh`; licences in `licences/`.", "", "| package | version | licence |", "| --- | --- | --- |", ...rows, ""].join("\n"));
' "$to/README.md"
