#version 330 core
// Two colours alternate along the line: a dash for holes, stitches for rims.
uniform vec3 first;
uniform vec3 second;
uniform float period;
uniform float share;
uniform vec4 clip;      // drawn where dot(clip.xyz, at) < clip.w only
in float run;
in vec3 at;
out vec4 shade;

void main() {
    if (dot(clip.xyz, at) > clip.w) discard;
    shade = vec4(mod(run, period) < period * share ? first : second, 1.0);
}
