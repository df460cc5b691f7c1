#version 330 core
// Tin-grey or scan colour in front; backs unlit dark iron with dots; waste hatched; strays and voids marked
// by pattern as well as colour.
uniform bool scan_colour;
uniform bool has_plane;
uniform vec4 plane;        // waste where dot(plane.xyz, at) < plane.w
uniform bool only_void;    // second pass: voids shine through the part
uniform bool patch_preview;
in vec3 at;
in vec3 facing;
in vec3 paint;
flat in int role;
out vec4 shade;

const vec3 TIN = vec3(0.75, 0.745, 0.725);
const vec3 IRON = vec3(0.165, 0.135, 0.12);
const vec3 OCHRE = vec3(0.82, 0.60, 0.20);
const vec3 RUST = vec3(0.66, 0.26, 0.13);
const vec3 VIOLET = vec3(0.60, 0.36, 0.84);

bool hatch(float period, float width) {
    return mod(gl_FragCoord.x + gl_FragCoord.y, period) < width;
}

bool cross_hatch(float period, float width) {
    return mod(gl_FragCoord.x - gl_FragCoord.y, period) < width || hatch(period, width);
}

void main() {
    if (only_void) {
        if (role != 3 || mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 2.0) < 1.0) discard;
        shade = vec4(mix(RUST, vec3(0.95, 0.62, 0.45), hatch(10.0, 3.0) ? 0.8 : 0.0), 1.0);
        return;
    }
    vec3 n = normalize(facing);
    if (!gl_FrontFacing) {
        vec2 cell = mod(gl_FragCoord.xy, 7.0) - 3.0;
        shade = vec4(dot(cell, cell) < 2.6 ? IRON * 2.3 : IRON, 1.0);
        if (has_plane && dot(plane.xyz, at) < plane.w && hatch(8.0, 3.0)) shade.rgb *= 0.55;
        return;
    }
    float key = max(dot(n, normalize(vec3(-0.45, 0.6, 0.75))), 0.0);
    float fill = max(dot(n, normalize(vec3(0.7, -0.2, 0.45))), 0.0);
    float gleam = pow(max(dot(n, normalize(vec3(-0.25, 0.35, 1.0))), 0.0), 24.0);
    vec3 base = scan_colour ? paint : TIN;
    if (patch_preview) base = hatch(9.0, 4.0) ? VIOLET : vec3(0.93, 0.88, 0.98);
    if (role == 1) base = cross_hatch(8.0, 1.6) ? OCHRE * 0.45 : OCHRE;
    if (role == 3) base = hatch(8.0, 3.0) ? RUST * 0.6 : RUST;
    float ambient = patch_preview ? 0.55 : 0.26;
    vec3 lit = base * (ambient + 0.62 * key * (1.26 - ambient) + 0.22 * fill) + 0.10 * gleam;
    if (has_plane && dot(plane.xyz, at) < plane.w) {
        float grey = dot(lit, vec3(0.33));
        lit = mix(vec3(grey), lit, 0.35) * (hatch(7.0, 2.6) ? 0.42 : 0.86);
    }
    shade = vec4(lit, 1.0);
}
