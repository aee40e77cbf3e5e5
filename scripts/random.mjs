/** A small generator with a seed (mulberry32), so that a run can be repeated: whole numbers below the one it is given. */
export function createRandom(seed) {
  let state = seed >>> 0;
  const draw = (below) => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) % below;
  };
  return Object.assign(draw, { state: () => state });
}
