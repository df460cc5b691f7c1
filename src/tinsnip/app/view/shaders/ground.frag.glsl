#version 330 core
// The shadow of the part, soft.
uniform sampler2D shadow;
uniform float strength;
in vec2 place;
out vec4 shade;

void main() {
    shade = vec4(0.05, 0.06, 0.07, 0.62 * strength * texture(shadow, place).r);
}
