/**
 * Half the width of the 95 % interval of a share seen in k of n samples, by
 * Wilson's score method (E. B. Wilson, Journal of the American Statistical
 * Association 22, 1927), as the card's intervals.
 */
export function halfWidth(k: number, n: number): number {
  if (n <= 0) return 1
  const z = 1.959963984540054
  const p = k / n
  return (z * Math.sqrt((p * (1 - p)) / n + (z * z) / (4 * n * n))) / (1 + (z * z) / n)
}
