#version 330 core
// A smaller picture, drawn larger.
uniform sampler2D small_one;
uniform vec2 size;      // of the target, pixels
out vec4 shade;

void main() {
    shade = vec4(texture(small_one, gl_FragCoord.xy / size).rgb, 1.0);
}
