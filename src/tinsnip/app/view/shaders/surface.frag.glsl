#version 330 core
// Tin-grey or scan colour in front; backs unlit dark iron with dots; waste hatched; strays and voids marked
// by pattern as well as colour.
// LOOK: 0 tin, 1 scan colour, 2 provenance, 3 deviation, 4 a patch that is only previewed, 5 voids that shine
// through the part, 6 density of the triangles, 7 their edges, 8 walls, 9 overhang, 10 scan colour by its texture,
// 11 stripes of light, 12 curvature, 13 relief. WASTE: what a snip that is set up has for a body: 1 plane, 2 cylinder, 3 box, 4 outline, 5 triangles
// that are told one by one; 0 none. FACETS: 1 for a coarse mesh, whose creases are lit as
// they are and not as if they were round, 2 for a dense one of which only what was made is lit so. MARKED: 1 where triangles are selected. Each is a program of its own: a software renderer works every branch out
// for every pixel.
uniform float limit;       // the deviation at which the colours end, mm
uniform usampler2D kinds;  // provenance of each triangle, row by row
uniform bool has_kinds;
uniform int first_triangle;
uniform bool is_listed;    // only some triangles are drawn
uniform usampler2D listed; // the number of each of them, row by row
#if MARKED
uniform usampler2D marked; // 1 where a triangle is selected, 2 where it is hidden, 3 where a click would take it
#endif
#if WASTE
uniform mat3 waste_axes;   // into the frame of the body
uniform vec3 waste_middle; // its origin there
uniform vec3 waste_size;   // radius first, or half the extent
uniform bool waste_inside; // whether the inside goes
uniform sampler2D outline; // 1 within the outline
uniform vec2 outline_low;
uniform vec2 outline_extent;
uniform usampler2D goes;   // 1 where a triangle goes, row by row
#endif
in vec3 facing;
#if LOOK == 1 || LOOK == 10
in vec3 paint;
#endif
#if LOOK == 10
uniform sampler2D places;  // where each triangle lies on the sheet, three texels each, row by row
uniform sampler2D sheet;   // all images above each other
uniform sampler2D far;     // the same, smaller, for what is far off
#endif
#if LOOK == 3 || LOOK == 6 || LOOK == 8 || LOOK >= 12
in float deviation;
in float unknown;
#endif
in vec3 at;
#if FACETS
in vec3 seen;
#endif
#if LOOK == 9
uniform float bed;         // the height up to which it stands on the bed
#endif
#if LOOK == 11
uniform mat3 to_lamps;     // from the view into the frame in which the lamps stand
uniform float stripes;     // lamps from one side to the other
#endif
uniform vec4 clip;         // drawn where dot(clip.xyz, at) < clip.w only
uniform bool is_cut;       // a section is looked at: backs are the inside of what is cut
uniform bool see_through;
uniform bool stand_in;     // coarser triangles are drawn, of which some lie the wrong way round: the normals tell the side
flat in int kind;
out vec4 shade;

#if LOOK == 0
uniform vec3 tint;         // of a piece that is not worked on, or tin
#define BARE tint
#else
#define BARE TIN
#endif

const vec3 TIN = vec3(0.75, 0.745, 0.725);
const vec3 IRON = vec3(0.165, 0.135, 0.12);
const vec3 OCHRE = vec3(0.82, 0.60, 0.20);
const vec3 RUST = vec3(0.66, 0.26, 0.13);
const vec3 CHARTREUSE = vec3(0.776, 0.91, 0.227);
const vec3 VIOLET = vec3(0.60, 0.36, 0.84);

uniform mat3 to_lights;    // from the view into the frame in which the lights stand
const vec3 KEY = vec3(-0.424264, 0.565685, 0.707107);   // directions of the lights, seen from the eye
const vec3 FILL = vec3(0.817889, -0.233682, 0.525786);
const vec3 GLEAM = vec3(-0.229658, 0.321521, 0.918630);

bool hatch(float period, float width) {
    return mod(gl_FragCoord.x + gl_FragCoord.y, period) < width;
}

bool cross_hatch(float period, float width) {
    return mod(gl_FragCoord.x - gl_FragCoord.y, period) < width || hatch(period, width);
}

bool net() {
    return mod(gl_FragCoord.x, 6.0) < 1.5 || mod(gl_FragCoord.y, 6.0) < 1.5;
}

bool dotted() {
    vec2 cell = mod(gl_FragCoord.xy, 6.0) - 2.5;
    return dot(cell, cell) < 2.3;
}

ivec2 own_row() {
    int number = gl_PrimitiveID + first_triangle;
    if (is_listed) number = int(texelFetch(listed, ivec2(number % 4096, number / 4096), 0).r);
    return ivec2(number % 4096, number / 4096);
}

#if MARKED
uint mark() {
    return texelFetch(marked, own_row(), 0).r;
}
#endif

#if WASTE
bool is_waste() {
#if WASTE == 5
    return texelFetch(goes, own_row(), 0).r != 0u;
#else
    vec3 own = waste_axes * at - waste_middle;
#if WASTE == 1
    return own.z < 0.0;
#elif WASTE == 2
    return (length(own.xy) < waste_size.x) == waste_inside;
#elif WASTE == 3
    return all(lessThan(abs(own), waste_size)) == waste_inside;
#else
    vec2 place = (own.xy - outline_low) / outline_extent;
    bool held = all(greaterThanEqual(place, vec2(0.0))) && all(lessThanEqual(place, vec2(1.0)));
    return (held && textureLod(outline, place, 0.0).r > 0.5) == waste_inside;
#endif
#endif
}
#endif

vec3 made_pattern() {
    return hatch(9.0, 4.0) ? VIOLET : vec3(0.93, 0.88, 0.98);
}

#if LOOK == 3 || LOOK == 12
// Copper outward, petrol inward, pale at nought; lines at every half, dark outward and light inward.
vec3 deviation_colour() {
    if (unknown > 0.5) return made_pattern();
    if (unknown < -0.25) return BARE;  // no part of what is measured
    float t = deviation / limit;
    float s = min(abs(t), 1.0);
    vec3 pale = vec3(0.93, 0.915, 0.87);
    vec3 far = t > 0.0 ? vec3(0.66, 0.27, 0.08) : vec3(0.05, 0.33, 0.47);
    vec3 middle = t > 0.0 ? vec3(0.87, 0.56, 0.34) : vec3(0.42, 0.65, 0.72);
    vec3 colour = s < 0.5 ? mix(pale, middle, 2.0 * s) : mix(middle, far, 2.0 * s - 1.0);
    float step_ = abs(t) * 2.0;
    float width = fwidth(step_);
    float near = abs(fract(step_ - 0.5) - 0.5);
    if (width < 0.35 && step_ > 0.5 && step_ < 2.3 && near < width)
        colour = t > 0.0 ? colour * 0.55 : mix(colour, vec3(1.0), 0.65);
    if (abs(t) > 1.0 && hatch(6.0, 2.0)) colour = t > 0.0 ? colour * 0.62 : mix(colour, vec3(1.0), 0.45);
    return colour;
}

#endif

#if LOOK == 2
vec3 provenance_colour() {
    if (!has_kinds) return TIN;
    uint which = texelFetch(kinds, own_row(), 0).r;
    if (which == 2u) return made_pattern();
    if (which == 1u) return mod(gl_FragCoord.x - gl_FragCoord.y, 8.0) < 1.6 ? vec3(0.25, 0.42, 0.50) : vec3(0.66, 0.78, 0.82);
    return TIN;
}
#endif

#if LOOK == 10
vec4 place_row(int number) {
    return texelFetch(places, ivec2(number % 4096, number / 4096), 0);
}

// The texture straight over the triangle, each image within its own part of the sheet; vertex colours where there is none.
vec3 texture_colour() {
    ivec2 own = own_row();
    int number = 3 * (own.y * 4096 + own.x);
    vec4 part = place_row(number + 2);
    if (part.w < 0.0) return paint;
    vec4 across = place_row(number), up = place_row(number + 1);
    vec2 uv = vec2(dot(across.xyz, at) + across.w, dot(up.xyz, at) + up.w);
    vec2 size = vec2(textureSize(sheet, 0));
    vec2 along = dFdx(uv) * part.xy * size, beside = dFdy(uv) * part.xy * size;
    float finer = 0.5 * log2(max(max(dot(along, along), dot(beside, beside)), 1e-12));
    if (any(lessThan(uv, vec2(-1e-4))) || any(greaterThan(uv, vec2(1.0001)))) uv = fract(uv);
    vec2 edge = 0.5 / (part.xy * size);
    uv = clamp(uv, edge, 1.0 - edge) * part.xy + vec2(0.0, part.z);
    if (finer < 1.0) return textureLod(sheet, uv, 0.0).rgb;
    vec3 afar = textureLod(far, uv, max(finer - 2.0, 0.0)).rgb;
    return finer < 2.0 ? mix(textureLod(sheet, uv, 0.0).rgb, afar, finer - 1.0) : afar;
}
#endif

#if LOOK == 6
// Petrol where triangles are finer than the middle one, copper where they are coarser; hatched at the ends.
vec3 density_colour() {
    float t = log2(max(deviation, 1e-30) / limit);
    float s = min(abs(t) / 2.5, 1.0);
    vec3 pale = vec3(0.93, 0.915, 0.87);
    vec3 far = t > 0.0 ? vec3(0.66, 0.27, 0.08) : vec3(0.05, 0.33, 0.47);
    vec3 colour = mix(pale, far, s);
    if (abs(t) > 2.5 && hatch(6.0, 2.0)) colour *= 0.7;
    return colour;
}
#endif

#if LOOK == 8
// Copper and hatched where a wall is thinner than the least one, pale up to twice that, petrol where it is thicker.
vec3 wall_colour() {
    float t = deviation / limit;
    vec3 pale = vec3(0.93, 0.915, 0.87);
    if (t < 1.0) {
        vec3 colour = mix(vec3(0.66, 0.27, 0.08), vec3(0.84, 0.55, 0.36), t);
        return hatch(6.0, 2.0) ? colour * 0.7 : colour;
    }
    if (t < 2.0) return pale;
    return mix(vec3(0.62, 0.72, 0.75), vec3(0.05, 0.33, 0.47), clamp((t - 2.0) / 6.0, 0.0, 1.0));
}
#endif

#if LOOK == 9
// Copper and hatched where the surface leans out further than holds by itself, petrol where it stands on the bed.
vec3 overhang_colour() {
    vec3 own = cross(dFdx(at), dFdy(at));
    float down = -own.z / max(length(own), 1e-30);
    float lean = degrees(asin(clamp(down, -1.0, 1.0)));
    vec3 pale = vec3(0.93, 0.915, 0.87);
    if (lean <= limit) return mix(pale, vec3(0.90, 0.74, 0.60), clamp((lean - limit + 20.0) / 20.0, 0.0, 1.0));
    if (at.z <= bed) return hatch(10.0, 3.0) ? vec3(0.22, 0.46, 0.54) : vec3(0.31, 0.54, 0.60);
    vec3 colour = mix(vec3(0.84, 0.55, 0.36), vec3(0.66, 0.27, 0.08), clamp((lean - limit) / 30.0, 0.0, 1.0));
    return hatch(6.0, 2.0) ? colour * 0.7 : colour;
}
#endif

#if LOOK == 13
// Hollows dark and ridges light, as if soot had settled and been wiped off.
vec3 relief_colour() {
    float t = clamp(deviation / limit, -1.0, 1.0);
    return t < 0.0 ? mix(vec3(0.62, 0.615, 0.60), vec3(0.13, 0.12, 0.11), -t) : mix(vec3(0.62, 0.615, 0.60), vec3(0.99, 0.975, 0.93), t);
}
#endif

void main() {
    if (dot(clip.xyz, at) > clip.w) discard;
#if LOOK == 7
    shade = vec4(0.10, 0.11, 0.13, 1.0);
    return;
#endif
    if (see_through && mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 2.0) < 1.0) discard;
#if LOOK == 5
    if ((kind & 7) != 3 || mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 2.0) < 1.0) discard;
    shade = vec4(mix(RUST, vec3(0.95, 0.62, 0.45), kind > 7 && hatch(10.0, 3.0) ? 0.8 : 0.0), 1.0);
#else
#if MARKED
    uint own_mark = mark();
    if (own_mark == 2u) discard;
#endif
    if (gl_FrontFacing ? stand_in && facing.z < -0.5 : !stand_in || facing.z <= 0.0) {
        vec2 cell = mod(gl_FragCoord.xy, 7.0) - 3.0;
        shade = vec4(dot(cell, cell) < 2.6 ? IRON * 2.3 : IRON, 1.0);
        if (is_cut) shade = vec4(hatch(9.0, 2.0) ? vec3(0.36, 0.19, 0.09) : vec3(0.72, 0.46, 0.28), 1.0);
#if WASTE
        if (is_waste() && hatch(8.0, 3.0)) shade.rgb *= 0.55;
#endif
#if MARKED
        if (own_mark == 1u) shade.rgb = mix(shade.rgb, CHARTREUSE, net() ? 0.25 : 0.5);
        if (own_mark == 3u) shade.rgb = mix(shade.rgb, CHARTREUSE, dotted() ? 0.6 : 0.2);
#endif
        return;
    }
#if LOOK == 1
    vec3 base = paint;
#elif LOOK == 10
    vec3 base = texture_colour();
#elif LOOK == 2
    vec3 base = provenance_colour();
#elif LOOK == 3 || LOOK == 12
    vec3 base = deviation_colour();
#elif LOOK == 6
    vec3 base = density_colour();
#elif LOOK == 8
    vec3 base = wall_colour();
#elif LOOK == 9
    vec3 base = overhang_colour();
#elif LOOK == 13
    vec3 base = relief_colour();
#elif LOOK == 4
    vec3 base = mix(made_pattern(), TIN, 0.25);
#else
    vec3 base = BARE;
#endif
#if LOOK == 4
    const float ambient = 0.26;  // lit as the part is: its shape is what one looks for
#elif LOOK < 2 || LOOK == 10
    int role_ = kind & 7;
    bool goes_ = kind > 7;     // ticked to go: more hatched, and dull
    if (role_ == 1) base = (goes_ ? cross_hatch(7.0, 2.2) : hatch(12.0, 1.4)) ? OCHRE * 0.35 : OCHRE * (goes_ ? 0.8 : 1.0);
    if (role_ == 2) base = net() ? CHARTREUSE * 0.6 : CHARTREUSE;
    if (role_ == 3) base = (goes_ ? cross_hatch(7.0, 2.2) : hatch(12.0, 1.4)) ? RUST * 0.5 : RUST;
    const float ambient = 0.26;
#else
    const float ambient = 0.55;
#endif
#if MARKED
    if (own_mark == 1u) base = net() ? CHARTREUSE * 0.6 : CHARTREUSE;
    if (own_mark == 3u) base = mix(base, CHARTREUSE, dotted() ? 0.95 : 0.2);
#endif
    vec3 n = normalize(facing);
#if FACETS
    vec3 own = normalize(cross(dFdx(seen), dFdy(seen)));
    own = own.z < 0.0 ? -own : own;
#if FACETS == 2
    if (texelFetch(kinds, own_row(), 0).r == 2u)
#endif
    // what lies between normals that point apart is short: there the corners say nothing of the middle
    n = normalize(mix(own, n, smoothstep(0.88, 0.98, dot(own, facing))));
#endif
#if LOOK == 11
    // long lamps side by side, as they are seen in the surface
    float across = asin(clamp((to_lamps * reflect(vec3(0.0, 0.0, -1.0), n)).x, -1.0, 1.0)) / 3.14159265 * stripes;
    float soft = clamp(fwidth(across), 0.02, 0.5);
    base = mix(vec3(0.16, 0.17, 0.19), vec3(0.96, 0.95, 0.92), smoothstep(0.25 - soft, 0.25 + soft, abs(fract(across) - 0.5)));
#if MARKED
    if (own_mark == 1u) base = net() ? CHARTREUSE * 0.6 : CHARTREUSE;
    if (own_mark == 3u) base = mix(base, CHARTREUSE, dotted() ? 0.95 : 0.2);
#endif
#endif
    vec3 from = to_lights * n;
    float key = max(dot(from, KEY), 0.0);
    float fill = max(dot(from, FILL), 0.0);
    float g = max(dot(from, GLEAM), 0.0);
    g *= g;
    g *= g;
    g *= g;
    float gleam = g * g * g;  // to the 24th
    vec3 lit = base * (ambient + 0.62 * key * (1.26 - ambient) + 0.22 * fill) + 0.10 * gleam;
#if WASTE
    if (is_waste()) {
        float grey = dot(lit, vec3(0.33));
        lit = mix(vec3(grey), lit, 0.35) * (hatch(7.0, 2.6) ? 0.42 : 0.86);
    }
#endif
    shade = vec4(lit, 1.0);
#endif
}
