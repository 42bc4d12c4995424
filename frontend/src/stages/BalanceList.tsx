/** The order of the work against the bed - what is too close, closest first - or into the compressor - where it works hardest. */
import { VisuallyHidden } from "@mantine/core";
import { useMemo } from "react";
import { useBalance, useBalanceFigures } from "../model/drafts/balance";
import { balanceItems, goToItem } from "../model/drafts/balanceList";
import { useHeldFader } from "../model/heard/mix";
import { phraseSpan } from "../model/server/focus";
import { useSession } from "../model/server/session";
import { useView } from "../model/view/view";
import { signed, time } from "../parts/format";
import { Roving } from "../parts/roving";
import { px } from "../parts/step";
import { useRows } from "../parts/useRows";
import { LOAD_ROWS } from "./BalanceRule";
import { OrderSwitch } from "./OrderSwitch";
import "./BalanceList.css";

const ROW = px(32);

export function BalanceList() {
  const order = useView((s) => s.order);
  const selection = useView((s) => s.selection);
  const state = useBalance();
  const { bed, load, working } = useBalanceFigures();
  const clips = useSession((s) => s.clips);
  const header = useSession((s) => s.header);
  const held = useHeldFader((s) => s.fader);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a fader that is held and the tracks' rules move them as well
  const items = useMemo(() => balanceItems(state, order), [state, bed, load, order, clips, header, held]);
  const first = items.findIndex((item) => selection.has(item.clip));
  const { box, rows } = useRows(items.length, ROW, first);
  const off = items.filter((item) => item.off).length;
  const isBed = state.leaf === "bed";
  const isKnown = isBed ? bed !== null : load !== null;
  return (
    <section className="worklist" aria-label="Worklist">
      {!isBed && load && (
        <table className="figures-table load-table" data-testid="load-table" aria-busy={working}>
          <thead>
            <tr>
              <th scope="col">reduction</th>
              <th scope="col">before</th>
              <th scope="col">after</th>
              <th scope="col" title="After, at the threshold at which it is worked on as hard as before">
                equal work
              </th>
            </tr>
          </thead>
          <tbody className="mono">
            {LOAD_ROWS.map(([name, show]) => (
              <tr key={name} title={name === "Spread" ? "Standard deviation of the phrases' averages" : undefined}>
                <th scope="row">{name}</th>
                <td className="dim">{show(load.load.before)}</td>
                <td>{show(load.load.after)}</td>
                <td>{show(load.load.at_proposed)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Roving name="What is listed" className="panel-head">
        <h2>
          Worklist{" "}
          <span className="dim">
            {working && !(isBed && isKnown)
              ? "analysing …"
              : isKnown &&
                (isBed ? (off === 0 ? "all far enough" : `${off} too close`) : off === 0 ? "even work" : `${off} hard`)}
          </span>
        </h2>
        <OrderSwitch worst={isBed ? "closest" : "hardest"} />
      </Roving>
      <div className="rows" ref={box}>
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => {
            const item = items[row.index]!;
            const clip = clips[item.track]?.find((one) => one.id === item.clip);
            if (!clip) return null;
            const words = clip.label || time(phraseSpan(clip).start);
            const value = isBed ? `${signed(item.value)} LU` : `−${item.value.toFixed(1)} dB`;
            return (
              <button
                type="button"
                key={item.id}
                className="row"
                data-clip={item.clip}
                data-state={item.off ? "loud" : "level"}
                aria-pressed={selection.has(item.clip)}
                style={{ transform: `translateY(${row.start}px)` }}
                onClick={() => goToItem(item, false)}
                onDoubleClick={() => goToItem(item)}
              >
                <span className="row-words">
                  {item.off ? "▾ " : ""}
                  {words}
                </span>
                <span className="row-value mono">{value}</span>
                <VisuallyHidden>
                  {isBed ? "above the bed" : "of work"}
                  {item.off ? (isBed ? ", too close" : ", more than most") : ""}
                </VisuallyHidden>
              </button>
            );
          })}
        </div>
      </div>
    </section>
  );
}
