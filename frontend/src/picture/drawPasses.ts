/** Drawing what the hand has written: while it plays as it is heard, and then the chosen pass over the lane. */
import { written } from "../model/passes/passes";
import { useRiding } from "../model/passes/riding";
import { useView } from "../model/view/view";
import { firstPlace } from "../parts/search";
import type { Palette } from "../parts/theme";
import type { Axis, Scale } from "./axis";
import type { Context } from "./scene";

export function drawPasses(ctx: Context, a: Axis, s: Scale, width: number, palette: Palette) {
  const { draft, chosen, heard } = useRiding.getState();
  const { lane } = useView.getState();
  ctx.save();
  ctx.strokeStyle = palette.draft;
  if (chosen && draft?.points.length) {
    ctx.lineWidth = 2;
    ctx.globalAlpha = heard ? 1 : 0.45;
    ctx.setLineDash([2, 3]);
    ctx.beginPath();
    for (const { at, db } of draft.points) ctx.lineTo(a.x(at), s.y(Math.max(db, s.low - 12)));
    ctx.stroke();
    ctx.setLineDash([]);
    if (draft.points.length * 7 < width) {
      ctx.fillStyle = palette.draft;
      for (const { at, db } of draft.points) ctx.fillRect(a.x(at) - 2, s.y(Math.max(db, s.low)) - 2, 4, 4);
    }
    ctx.globalAlpha = 1;
  }
  if (written.at.length && written.lane === lane) {
    ctx.lineWidth = 3;
    ctx.beginPath();
    let isNew = true;
    // only what the window shows, and of that a point for each half of a pixel
    const from = firstPlace(written.at.length, (i) => a.x(written.at[i]!) >= 0);
    let last = Number.NEGATIVE_INFINITY;
    for (let i = Math.max(from - 1, 0); i < written.at.length; i++) {
      const [x, db] = [a.x(written.at[i]!), written.db[i]!];
      if (Number.isNaN(db)) {
        isNew = true;
        continue;
      }
      if (x > width) break;
      if (!isNew && x - last < 0.5) continue;
      last = x;
      const y = s.y(Math.max(db, s.low - 12));
      if (isNew) ctx.moveTo(x, y);
      else ctx.lineTo(x, y);
      isNew = false;
    }
    ctx.stroke();
  }
  ctx.restore();
}
