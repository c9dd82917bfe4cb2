/** The width that a mirror flame is asked for: in steps, so that small changes of the window ask for nothing. */
export const mirrorPixels = (width: number) => Math.max(200, Math.ceil(width / 64) * 64)
