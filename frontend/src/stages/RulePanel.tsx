/** The panel of a rule. Where it is longer than its place it says so, above what stays at its foot. */
import { IconChevronDown } from "@tabler/icons-react";
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import "./RulePanel.css";

/** What may be hidden without being missed: the space below the last row. */
const HAIR = 12;

export function RulePanel({ children }: { children: ReactNode }) {
  const panel = useRef<HTMLElement>(null);
  const content = useRef<HTMLDivElement>(null);
  const [foot, setFoot] = useState<number | null>(null);
  useLayoutEffect(() => {
    const box = panel.current!;
    const look = () => {
      const hidden = box.scrollHeight - box.clientHeight - box.scrollTop;
      setFoot(hidden > HAIR ? (box.querySelector<HTMLElement>(".rule-foot")?.offsetHeight ?? 0) : null);
    };
    look();
    const observer = new ResizeObserver(look);
    observer.observe(box);
    observer.observe(content.current!);
    box.addEventListener("scroll", look, { passive: true });
    return () => {
      observer.disconnect();
      box.removeEventListener("scroll", look);
    };
  }, []);
  return (
    <div className="rule-place">
      <section className="rule" aria-label="Rule" ref={panel}>
        <div ref={content}>{children}</div>
      </section>
      {foot !== null && (
        <button
          type="button"
          className="rule-more"
          // keys bring what they go to into sight by themselves
          tabIndex={-1}
          style={{ bottom: foot }}
          onClick={() => panel.current?.scrollBy({ top: panel.current.clientHeight / 2 })}
        >
          more below <IconChevronDown size={12} />
        </button>
      )}
    </div>
  );
}
