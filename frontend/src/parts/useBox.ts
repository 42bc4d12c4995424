/** How large an element is: known as soon as it is there, so that what depends on it is in the first picture. */
import { useLayoutEffect, useRef, useState } from "react";

export function useBox<T extends HTMLElement = HTMLDivElement>() {
  const ref = useRef<T>(null);
  const [box, setBox] = useState({ width: 0, height: 0 });
  useLayoutEffect(() => {
    const element = ref.current!;
    const measure = () =>
      setBox((old) => {
        const { clientWidth: width, clientHeight: height } = element;
        return old.width === width && old.height === height ? old : { width, height };
      });
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  return { ref, ...box };
}
