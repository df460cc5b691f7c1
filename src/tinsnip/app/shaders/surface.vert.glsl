#version 330 core
// The surface: positions are relative to the piece's middle, so that single precision is enough.
uniform mat4 to_clip;
uniform mat3 to_view;
in vec3 place;
in vec4 normal;
in vec4 colour;   // alpha: what the shell is
out vec3 at;
out vec3 facing;
out vec3 paint;
flat out int role;

void main() {
    gl_Position = to_clip * vec4(place, 1.0);
    at = place;
    facing = to_view * normal.xyz;
    paint = colour.rgb;
    role = int(colour.a * 255.0 + 0.5);
}
