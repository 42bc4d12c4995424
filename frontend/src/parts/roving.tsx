/**
 * Roving focus: a group of controls is one stop of Tab, and its arrows go from one control to the next.
 * (The pattern "Managing focus within components using a roving tabindex" of the ARIA Authoring Practices Guide, W3C.)
 */
import { type HTMLAttributes, type RefCallback, useCallback, useEffect, useRef } from "react";

const CONTROLS = "button, a[href], input[type=radio], input[type=checkbox]";
const CHANGES = ["aria-pressed", "aria-selected", "aria-current", "disabled"];
/** How long something that comes into sight is waited for, to be given the focus. */
const COMES = 1000;

export interface Group {
  /** Left and Right, Up and Down, either way, or a picture of lines with Left and Right within them and Up and Down between. */
  axis?: "row" | "column" | "either" | "lines";
  /** What takes part. */
  items?: string;
  /**
   * What is chosen in a list or a picture, if anything can be: Tab goes there first, and keys on it are those of the page,
   * which act on what is chosen. Escape lets it go, and the arrows go on from there.
   */
  chosen?: string;
  /** Of ``lines``: what holds one. */
  line?: string;
  /** The arrow went past the last that is there: brings the next one in, and says how it is found. */
  beyond?: (from: HTMLElement, way: 1 | -1) => string | null;
  /** Of a list that holds only what is in sight: brings its first or last in. */
  toEnd?: (way: 1 | -1) => void;
}

/** Make an element such a group; returns what ends it. Controls may come and go, and are told by the page alone. */
export function rove(box: HTMLElement, group: () => Group): () => void {
  let last: HTMLElement | null = null;
  let wasChosen = false;
  let awaited: { selector: string; until: number } | null = null;

  const items = () =>
    [...box.querySelectorAll<HTMLElement>(group().items ?? CONTROLS)].filter((one) => !one.matches(":disabled"));
  const settle = () => {
    const all = items();
    const focus = document.activeElement as HTMLElement;
    const { chosen } = group();
    const isHere = all.includes(focus);
    const one = chosen ? all.find((item) => item.matches(chosen) && isSeen(item)) : undefined;
    // the choice went on from what had the focus, by a key of the page: the focus goes with it
    if (isHere && wasChosen && one && !focus.matches(chosen!)) {
      wasChosen = false;
      return one.focus();
    }
    wasChosen = isHere && chosen !== undefined && focus.matches(chosen);
    const open = isHere
      ? focus
      : (one ?? (last && all.includes(last) && isSeen(last) ? last : (all.find(isSeen) ?? all[0])));
    for (const item of all) {
      const stop = item === open ? 0 : -1;
      if (item.tabIndex !== stop) item.tabIndex = stop;
    }
  };
  const changed = () => {
    settle();
    if (!awaited) return;
    const come = box.querySelector<HTMLElement>(awaited.selector);
    if (come) come.focus();
    if (come || performance.now() > awaited.until) awaited = null;
  };
  const focused = (event: FocusEvent) => {
    last = (event.target as HTMLElement).closest<HTMLElement>(group().items ?? CONTROLS) ?? last;
    settle();
  };
  const down = (event: KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.shiftKey) return;
    const all = items().filter(isSeen);
    const from = all.indexOf(event.target as HTMLElement);
    const { axis = "row", line, beyond, toEnd, chosen } = group();
    if (from < 0 || (chosen && all[from]!.matches(chosen))) return;
    if (event.key === "Escape") {
      // gives the keys back to what is selected
      all[from]!.blur();
      return taken(event);
    }
    const to = target(event.key, all, from, axis, line);
    if (to === null) return;
    taken(event);
    if (toEnd && (event.key === "Home" || event.key === "End")) {
      const way = event.key === "Home" ? -1 : 1;
      toEnd(way);
      // the list is drawn in the frame after the next
      requestAnimationFrame(() =>
        requestAnimationFrame(() =>
          items()
            .at(way === 1 ? -1 : 0)
            ?.focus(),
        ),
      );
      return;
    }
    const next = all[to];
    if (next) return next.focus();
    const selector = beyond?.(all[from]!, to < 0 ? -1 : 1);
    if (selector) awaited = { selector, until: performance.now() + COMES };
  };

  const observer = new MutationObserver(changed);
  observer.observe(box, { childList: true, subtree: true, attributes: true, attributeFilter: CHANGES });
  box.addEventListener("focusin", focused);
  box.addEventListener("keydown", down);
  settle();
  return () => {
    observer.disconnect();
    box.removeEventListener("focusin", focused);
    box.removeEventListener("keydown", down);
  };
}

/** Neither the window's keys nor those of what the group is in. */
function taken(event: KeyboardEvent) {
  event.preventDefault();
  event.stopPropagation();
}

/** Folded panels keep what is in them. */
const isSeen = (one: HTMLElement) => one.checkVisibility?.({ visibilityProperty: true }) ?? true;

/** Where a key leads: the number of an item, one before the first or behind the last, or null where it leads nowhere. */
function target(
  key: string,
  all: HTMLElement[],
  from: number,
  axis: NonNullable<Group["axis"]>,
  line: string | undefined,
): number | null {
  if (key === "Home") return 0;
  if (key === "End") return all.length - 1;
  const across = { ArrowLeft: -1, ArrowRight: 1 }[key];
  const down = { ArrowUp: -1, ArrowDown: 1 }[key];
  if (axis !== "lines") {
    const way = (axis !== "column" ? across : undefined) ?? (axis !== "row" ? down : undefined);
    return way === undefined ? null : from + way;
  }
  const lineOf = (one: HTMLElement) => one.closest(line!);
  const own = lineOf(all[from]!);
  if (across !== undefined) {
    const next = all[from + across];
    return next && lineOf(next) === own ? from + across : across < 0 ? -1 : all.length;
  }
  if (down === undefined) return null;
  const lines = [...new Set(all.map(lineOf))];
  const other = lines[lines.indexOf(own) + down];
  if (!other) return from;
  const x = middle(all[from]!);
  const there = all.filter((one) => lineOf(one) === other);
  return all.indexOf(
    there.reduce((near, one) => (Math.abs(middle(one) - x) < Math.abs(middle(near) - x) ? one : near)),
  );
}

const middle = (one: HTMLElement) => {
  const box = one.getBoundingClientRect();
  return box.left + box.width / 2;
};

/** Whether a click came from Enter or Space. */
export const isByKey = (event: { detail: number }) => event.detail === 0;

/** The ref of an element that is to be such a group. */
export function useRoving(group: Group): RefCallback<HTMLElement> {
  const now = useRef(group);
  useEffect(() => {
    now.current = group;
  });
  return useCallback((box: HTMLElement | null) => (box ? rove(box, () => now.current) : undefined), []);
}

interface Props extends Pick<Group, "axis" | "items">, HTMLAttributes<HTMLDivElement> {
  /** What the group is called by a screen reader. */
  name: string;
}

/** Some controls side by side that are one stop of Tab. */
export function Roving({ name, axis, items, ...rest }: Props) {
  return <div role="toolbar" aria-label={name} ref={useRoving({ axis, items })} {...rest} />;
}
