#version 330 core
// The surface: positions are relative to the piece's middle, so that single precision is enough.
uniform mat4 to_clip;
uniform mat3 to_view;
in vec3 place;
in vec4 normal;
in vec4 colour;
in uint role;     // what the shell is
in float value;   // deviation from raw, mm; not a number: nothing to measure against
out vec3 at;
out vec3 facing;
out vec3 paint;
out float deviation;
out float unknown;
flat out int kind;

void main() {
    gl_Position = to_clip * vec4(place, 1.0);
    at = place;
    facing = to_view * normal.xyz;
    paint = colour.rgb;
    kind = int(role);
    unknown = isnan(value) ? 1.0 : 0.0;
    deviation = isnan(value) ? 0.0 : value;
}
