#version 330 core
// A rectangle flat on the ground.
uniform mat4 to_clip;
uniform vec2 low;
uniform vec2 high;
uniform float level;
out vec2 place;

void main() {
    place = vec2(gl_VertexID % 2, gl_VertexID / 2);
    gl_Position = to_clip * vec4(mix(low, high, place), level, 1.0);
}
