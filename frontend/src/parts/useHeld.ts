/** A value that the hand holds: it stays where the hand left it until the last of its moves is kept. */
import { useRef, useState } from "react";

export function useHeld<T>(save: (value: T) => Promise<unknown>) {
  const [held, setHeld] = useState<T | null>(null);
  const moves = useRef(0);
  const hold = (value: T) => {
    moves.current++;
    setHeld(value);
  };
  const keep = async (value: T) => {
    hold(value);
    const move = moves.current;
    await save(value);
    if (move === moves.current) setHeld(null);
  };
  return { held, hold, keep };
}
