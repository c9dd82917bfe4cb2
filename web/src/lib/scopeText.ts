// Words of the scope language.

/** Nanoseconds as the scope language writes a time, exactly. */
export const timeText = (ns: number) => `${(ns / 1e9).toFixed(9).replace(/\.?0+$/, '')} s`

/** A name in quotes, so that it may hold anything. */
export const quoted = (name: string) => JSON.stringify(name)
