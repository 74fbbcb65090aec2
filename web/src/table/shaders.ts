import { DENSITY, PLACE } from '../scene/pieces'
import { COLOURS, NIGHT, vec } from '../colours'

/** Islands as flat patches. */
export const FILL_VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  in float object;
  out vec3 cloth;
  void main() {
    cloth = texelFetch(looks, ivec2(int(object + 0.5), 0), 0).rgb;
    vec2 t = placed(uv);
    gl_Position = island < 0.0 ? vec4(2.0, 2.0, 2.0, 1.0) : projectionMatrix * viewMatrix * vec4(t, 0.0, 1.0);
  }
`
export const FILL = /* glsl */ `
  ${DENSITY}
  in vec3 cloth;
  in vec2 state;
  out vec4 colour;
  uniform float density;
  uniform float marks;
  uniform float opacity;
  uniform float night;
  void main() {
    if (has(state, 4) || has(state, 8)) discard;
    vec3 c = density > 0.5 ? densityColour(state.x) : mix(cloth, ${vec(COLOURS.bleached)}, 0.38);
    // By night cloth lies in the dark, a little lighter than the ground.
    if (night > 0.5) c = mix(${vec(NIGHT.cloth)}, density > 0.5 ? c : cloth, 0.62);
    // Mirrored islands are hatched on the slant.
    float slant = mod(gl_FragCoord.x + gl_FragCoord.y, 10.0);
    if (marks > 0.5 && has(state, 2) && slant < 1.6) c = mix(c, night > 0.5 ? ${vec(NIGHT.madder)} : ${vec(COLOURS.madder)}, 0.8);
    if (has(state, 1)) c = mix(c, night > 0.5 ? ${vec(NIGHT.ink)} : ${vec(COLOURS.ink)}, 0.22);
    colour = vec4(c, has(state, 1) ? max(opacity, 0.45) : opacity);
  }
`

/** Outlines: a thin darker edge, a double stitch where selected; or, with \`zone\` (half the padding in px), the padding around each island. */
export const EDGE_VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  uniform float pixel;
  uniform float zone;
  in vec4 ends;
  in float object;
  out vec3 cloth;
  out vec3 spot;
  out vec2 way;
  out float half_gap;
  out float thin;
  void main() {
    cloth = texelFetch(looks, ivec2(int(object + 0.5), 0), 0).rgb;
    vec2 a = placed(ends.xy);
    vec2 b = placed(ends.zw);
    float far = length(b - a);
    vec2 d = far > 0.0 ? (b - a) / far : vec2(1.0, 0.0);
    bool selected = (int(state.y + 0.5) & 1) != 0;
    half_gap = zone * texel;
    float reach = zone > 0.0 ? half_gap : pixel * (selected ? 4.0 : 1.4);
    vec2 t = mix(a, b, position.y) + reach * (vec2(-d.y, d.x) * position.x + d * (2.0 * position.y - 1.0));
    spot = vec3(reach * position.x, position.y * far + reach * (2.0 * position.y - 1.0), far);
    way = d;
    // Of islands that are thinner than both rows of stitches one row is left, on the edge itself.
    thin = 1.0 - smoothstep(5.0, 11.0, thick / pixel);
    gl_Position = island < 0.0 ? vec4(2.0, 2.0, 2.0, 1.0) : projectionMatrix * viewMatrix * vec4(t, 0.0, 1.0);
  }
`
export const EDGE = /* glsl */ `
  in vec3 cloth;
  in vec2 state;
  in vec3 spot;
  in vec2 way;
  in float half_gap;
  in float thin;
  out vec4 colour;
  uniform float pixel;
  uniform float zone;
  uniform float night;
  bool has(vec2 s, int bit) { return (int(s.y + 0.5) & bit) != 0; }
  void main() {
    if (has(state, 4) || has(state, 8)) discard;
    float beyond = max(max(-spot.y, spot.y - spot.z), 0.0);
    float off = length(vec2(spot.x, beyond));
    if (zone > 0.0) {
      if (off > half_gap) discard;
      colour = vec4(night > 0.5 ? mix(cloth, ${vec(NIGHT.cloth)}, 0.72) : mix(cloth, ${vec(COLOURS.washed)}, 0.82), 1.0);
      return;
    }
    float px = off / pixel;
    vec3 c = night > 0.5 ? mix(cloth, ${vec(NIGHT.washed)}, 0.55) : cloth * 0.55;
    float ink = 1.0 - smoothstep(0.45, 1.25, px);
    if (has(state, 1)) {
      // Two rows of stitches, one on each side of the edge.
      float along = abs(way.x) > abs(way.y) ? gl_FragCoord.x : gl_FragCoord.y;
      float row = abs(px - mix(2.3, 0.0, step(0.5, thin)));
      float stitch = (1.0 - smoothstep(0.5, mix(1.2, 0.9, thin), row)) * (mod(along, 8.0) < 5.5 ? 1.0 : 0.0);
      c = night > 0.5 ? ${vec(NIGHT.washed)} : ${vec(COLOURS.inkDeep)};
      ink = max(ink * 0.4, stitch);
    }
    if (ink < 0.02) discard;
    colour = vec4(c, ink);
  }
`

/** Cross-hatching wherever the fills counted more than one patch. */
export const CROSS = /* glsl */ `
  out vec4 colour;
  void main() {
    float a = mod(gl_FragCoord.x + gl_FragCoord.y, 8.0);
    float b = mod(gl_FragCoord.x - gl_FragCoord.y + 4096.0, 8.0);
    if (min(a, b) > 1.4) discard;
    colour = vec4(0.5, 0.12, 0.1, 0.9);
  }
`

/** Edges between faces, where points and edges are worked on. */
export const WIRE = /* glsl */ `
  in vec3 cloth;
  in vec2 state;
  out vec4 colour;
  uniform float night;
  bool has(vec2 s, int bit) { return (int(s.y + 0.5) & bit) != 0; }
  void main() {
    if (has(state, 4) || has(state, 8)) discard;
    colour = vec4(night > 0.5 ? mix(cloth, ${vec(NIGHT.washed)}, 0.5) : cloth * 0.45, 0.55);
  }
`
