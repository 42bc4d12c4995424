/** The first place of a sorted row from which on something holds; ``count`` if it holds nowhere. O(log count). */
export function firstPlace(count: number, holds: (place: number) => boolean): number {
  let low = 0;
  let high = count;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (holds(middle)) high = middle;
    else low = middle + 1;
  }
  return low;
}
