#version 330 core
// Shade by what lies deeper and nearer round about: a line where the surface turns away from sight, and, where HOLLOWS
// is 1, hollows darker and ridges lighter. Half grey changes nothing: the picture is multiplied by twice this.
uniform sampler2D depth;   // 0 near to 1 far, evenly
uniform float pixels;      // of the picture, from the nearest depth to the farthest; in perspective to one mm
#if EYE
uniform vec3 depths;       // in perspective depths do not grow evenly: first + rise z over 1 - back z
#endif
uniform int far_off;       // how wide hollows and ridges are, pixels
out vec4 shade;

const float STEEP = 5.0;   // pixels deeper from one to the next: the surface ends there
const float LINE = 0.72;

// how deep it is, in pixels
float depth_at(ivec2 at) {
    float told = texelFetch(depth, at, 0).r;
#if EYE
    told = 2.0 * told - 1.0;
    return (depths.x - told) / (depths.y + told * depths.z) * pixels;
#else
    return told * pixels;
#endif
}

float deeper(ivec2 at, float own) {
    return depth_at(at) - own;
}

void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    if (texelFetch(depth, at, 0).r >= 1.0) discard;
    float own = depth_at(at);
    float right = deeper(at + ivec2(1, 0), own), left = deeper(at - ivec2(1, 0), own);
    float above = deeper(at + ivec2(0, 1), own), below = deeper(at - ivec2(0, 1), own);
    float light = 1.0;
    // a slope goes on as steeply on the other side; where it does not, the surface ends
    float jump = max(max(right + min(left, 0.0), left + min(right, 0.0)), max(above + min(below, 0.0), below + min(above, 0.0)));
    if (jump > STEEP) light = LINE;
#if HOLLOWS
    else {
        float bend = 0.0;
        for (int i = 0; i < 4; ++i) {
            ivec2 way = i == 0 ? ivec2(1, 0) : i == 1 ? ivec2(0, 1) : i == 2 ? ivec2(1, 1) : ivec2(1, -1);
            int reach = i < 2 ? far_off : (far_off * 7 + 5) / 10;
            float one = deeper(at + way * reach, own), other = deeper(at - way * reach, own);
            bend += clamp(one + other, -1.6 * float(reach), 1.6 * float(reach)) / float(reach);
        }
        light = 1.0 + clamp(0.085 * bend, -0.2, 0.08);
    }
#endif
    shade = vec4(vec3(0.5 * light), 1.0);
}
