/** The rows of a long list: only those in sight are held, and the first that is chosen is brought into sight. */
import { useVirtualizer } from "@tanstack/react-virtual";
import { type MouseEvent, useCallback, useEffect, useRef } from "react";
import { rove } from "./roving";

export function useRows(count: number, height: number, chosen: number) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: 4,
  });
  useEffect(() => {
    if (chosen >= 0) rows.scrollToIndex(chosen, { align: "auto" });
  }, [chosen, rows]);
  const hold = useCallback((element: HTMLDivElement) => {
    box.current = element;
    const toEnd = (way: 1 | -1) => element.scrollTo({ top: way === 1 ? element.scrollHeight : 0 });
    const end = rove(element, () => ({ axis: "column", items: ".row", chosen: "[aria-pressed=true]", toEnd }));
    return () => {
      end();
      box.current = null;
    };
  }, []);
  return { box: hold, rows };
}

/** Whether a click takes one more, or only what was clicked. */
export const isMore = (event: MouseEvent) => event.shiftKey || event.ctrlKey || event.metaKey;

/** What is chosen after a click: what was clicked, or that with the others; if it was among them, without it. */
export function afterClick(chosen: Set<string>, id: string, more: boolean): Set<string> {
  const ids = new Set(more ? chosen : []);
  if (!(more && ids.delete(id))) ids.add(id);
  return ids;
}
