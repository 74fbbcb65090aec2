import { COLOURS, vec } from '../colours'
import { DENSITY, PLACE } from '../scene/pieces'

export const VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  in float object;
  in vec2 paint;
  out vec2 old;
  out vec3 cloth;
  out vec2 tex;
  out vec3 eye;
  out float unmapped;
  void main() {
    vec4 worn = texelFetch(looks, ivec2(int(object + 0.5), 0), 0);
    cloth = worn.rgb;
    tex = placed(uv);
    old = paint;
    unmapped = island < 0.0 ? 1.0 : 0.0;
    vec4 p = modelViewMatrix * vec4(position, 1.0);
    eye = p.xyz;
    gl_Position = worn.a < 0.5 ? vec4(2.0, 2.0, 2.0, 1.0) : projectionMatrix * p;
  }
`
export const FRAGMENT = /* glsl */ `
  ${DENSITY}
  in vec3 cloth;
  in vec2 state;
  in vec2 tex;
  in vec2 old;
  in vec3 eye;
  in float unmapped;
  out vec4 colour;
  uniform sampler2D pattern;
  uniform float squares;
  uniform float look;
  uniform float marks;
  uniform float quiet;
  uniform sampler2D picture;
  uniform vec2 reach;
  uniform float painted;
  uniform sampler2D fresh;
  uniform vec2 freshReach;
  uniform vec3 tint;
  uniform vec3 freshTint;
  uniform float wipe;
  uniform float tiled;
  // IEC 61966-2-1, both ways: materials multiply in linear light.
  vec3 lit(vec3 s) { return mix(s / 12.92, pow((s + 0.055) / 1.055, vec3(2.4)), step(0.04045, s)); }
  vec3 stored(vec3 x) { return mix(x * 12.92, 1.055 * pow(x, vec3(1.0 / 2.4)) - 0.055, step(0.0031308, x)); }
  vec3 before() { return stored(lit(painted > 0.5 ? texture(picture, old).rgb : vec3(1.0)) * tint); }
  vec3 after(vec3 plain) {
    bool on = all(greaterThanEqual(tex, vec2(0.0))) && all(lessThanEqual(tex, freshReach)) && !has(state, 8);
    return on ? stored(lit(texture(fresh, tex / freshReach).rgb) * freshTint) : plain;
  }
  // The greater over the smaller singular value of the map from the surface to the plane, from how both change across the screen.
  float stretched() {
    vec3 e = dFdx(eye);
    vec3 f = dFdy(eye);
    float along = max(length(e), 1e-20);
    float x = dot(e, f) / along;
    float y = sqrt(max(dot(f, f) - x * x, 1e-20));
    vec2 u = dFdx(tex) / along;
    vec2 v = (dFdy(tex) - u * x) / y;
    float q = length(vec2(u.x + v.y, u.y - v.x));
    float r = length(vec2(u.x - v.y, u.y + v.x));
    return (q + r) / max(abs(q - r), 1e-12);
  }
  // Even cloth inside the limit; beyond, its threads are pulled apart, the more the darker and the wider.
  vec3 weave(vec3 plain) {
    float beyond = clamp(log2(max(stretched(), 1.0)) / 1.6, 0.0, 1.0);
    vec3 even = ${vec(COLOURS.even)};
    if (beyond < 0.086) return even;
    float wide = mix(3.0, 9.0, beyond);
    float thread = step(mod(gl_FragCoord.x - gl_FragCoord.y, wide), 1.4);
    return mix(mix(even, ${vec(COLOURS.taut)}, beyond), ${vec(COLOURS.tautDeep)}, thread * (0.3 + 0.7 * beyond));
  }
  void main() {
    vec3 n = normalize(cross(dFdx(eye), dFdy(eye)));
    float light = 0.62 + 0.38 * abs(dot(n, normalize(vec3(0.3, 0.5, 0.8))));
    vec3 plain = mix(cloth, ${vec(COLOURS.bleached)}, 0.3);
    vec3 c = plain;
    if (look < 0.5) c = texture(pattern, tex * squares / 4.0).rgb * mix(vec3(1.0), plain, 0.45) * 1.1;
    else if (look > 3.5 && look < 4.5) c = painted > 0.5 ? texture(picture, old).rgb : plain;
    else if (look > 2.5) {
      bool inside = tiled > 0.5 || (all(greaterThanEqual(tex, vec2(0.0))) && all(lessThanEqual(tex, reach)));
      bool under = painted > 0.5 && inside && !has(state, 8);
      // The gradients are those of what goes on, so that there is no line where it begins anew.
      c = under ? textureGrad(picture, fract(tex / reach), dFdx(tex / reach), dFdy(tex / reach)).rgb : plain;
    } else if (look > 1.5) c = densityColour(state.x);
    if (look > 6.5) c = min(vec3(1.0), 4.0 * abs(after(before()) - before()));
    else if (look > 5.5) c = gl_FragCoord.x < wipe ? before() : after(plain);
    else if (look > 4.5) c = unmapped > 0.5 ? plain : weave(plain);
    if (unmapped > 0.5) c = ${vec(COLOURS.unmapped)};
    if (marks > 0.5 && has(state, 2) && mod(gl_FragCoord.x + gl_FragCoord.y, 10.0) < 1.6) c = mix(c, ${vec(COLOURS.madder)}, 0.75);
    if (has(state, 1) && quiet > 0.5) c = mix(c, ${vec(COLOURS.indigo)}, 0.12);
    else if (has(state, 1)) {
      c = mix(c, ${vec(COLOURS.indigo)}, 0.4);
      if (mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 8.0) < 1.5) c = ${vec(COLOURS.ink)};
    } else if (has(state, 4)) c = mix(c, ${vec(COLOURS.paper)}, 0.75);
    colour = vec4(c * light, 1.0);
  }
`

/** What the objects wear. */
export const LOOKS = { checker: 0, cloth: 1, density: 2, tiles: 3, own: 4, weave: 5, wipe: 6, change: 7 } as const
export type Look = keyof typeof LOOKS
