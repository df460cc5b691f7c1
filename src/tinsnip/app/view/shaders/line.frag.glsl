#version 330 core
// Two colours alternate along the line: a dash for holes, stitches for rims.
uniform vec3 first;
uniform vec3 second;
uniform float period;
uniform float share;
in float run;
out vec4 shade;

void main() {
    shade = vec4(mod(run, period) < period * share ? first : second, 1.0);
}
