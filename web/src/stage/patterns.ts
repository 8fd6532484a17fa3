/** Patterns in the picture's own pixels, as the shaders and the sketch draw them. */

/** Lines of ink along a diagonal: one pixel of so many, mixed in by a share. */
export const HATCH = { every: 5, share: 0.45 }
/** Dashes along the other diagonal: of so many pixels the first few are left out. */
export const DASH = { every: 9, gap: 4 }
