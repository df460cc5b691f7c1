#version 330 core
// One segment an instance, widened to a ribbon on the screen; drawn a little nearer than the surface.
uniform mat4 to_clip;
uniform vec2 size;      // of the view, pixels
uniform float width;    // pixels
in vec3 head;
in vec3 tail;
in float along;         // length of the line before this segment, mm
out float run;          // pixels along the line
out vec3 at;
uniform float scale;    // pixels per mm

void main() {
    vec4 a = to_clip * vec4(head, 1.0);
    vec4 b = to_clip * vec4(tail, 1.0);
    a /= a.w;
    b /= b.w;
    vec2 way = (b.xy - a.xy) * size;
    float len = max(length(way), 1e-6);
    vec2 side = vec2(-way.y, way.x) / len;
    int corner = gl_VertexID;
    vec4 end = corner < 2 ? a : b;
    float sign = corner % 2 == 0 ? 1.0 : -1.0;
    gl_Position = vec4(end.xy + sign * side * width / size, end.z - 0.003, 1.0);
    at = corner < 2 ? head : tail;
    run = (along + (corner < 2 ? 0.0 : distance(head, tail))) * scale;
}
