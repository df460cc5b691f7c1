#version 330 core
// The surface: positions are relative to the piece's middle, so that single precision is enough.
uniform mat4 to_clip;
uniform mat3 to_view;
in vec3 place;
in vec4 normal;
#if LOOK == 1 || LOOK == 10
in vec4 colour;
#endif
in uint role;     // what the shell is
#if LOOK == 3 || LOOK == 6 || LOOK == 8 || LOOK >= 12
in float value;   // what the look paints, such as the deviation from raw, mm; not a number: nothing to measure against
#endif
out vec3 facing;
#if LOOK == 1 || LOOK == 10
out vec3 paint;
#endif
#if LOOK == 3 || LOOK == 6 || LOOK == 8 || LOOK >= 12
out float deviation;
out float unknown;
#endif
out vec3 at;
#if FACETS
out vec3 seen;
#endif
flat out int kind;

void main() {
    gl_Position = to_clip * vec4(place, 1.0);
    at = place;
    facing = to_view * normal.xyz;
#if FACETS
    seen = to_view * place;
#endif
    kind = int(role);
#if LOOK == 1 || LOOK == 10
    paint = colour.rgb;
#endif
#if LOOK == 3 || LOOK == 6 || LOOK == 8 || LOOK >= 12
    unknown = isnan(value) ? 1.0 : isinf(value) ? -1.0 : 0.0;
    deviation = unknown != 0.0 ? 0.0 : value;
#endif
}
