/** What strays, and what the hand does to a lane before it is an edit. */
import { describe, expect, it } from "vitest";
import type { Inside, LaneName, Ride, RideDraft } from "../api/client";
import type { Line } from "../sound/lines";
import { clip } from "./clip.testing";
import { heldPoint, kept, liftLine, pointsLine } from "./hand/hold";
import { strayList } from "./hand/strays";
import { gainAt, heardOfTrack, NOTHING } from "./heard/heard";
import { useSession } from "./server/session";
import { hand, useView } from "./view/view";

describe("the ride", () => {
  const point = (at: number, db: number, clip: string | null = null) => ({
    id: `p${at}`,
    at,
    db,
    shape: "linear",
    clip,
  });
  const stray = (clip: string, start: number, deviation: number) => ({ clip, start, end: start + 0.5, deviation });
  const ride: Ride = {
    curve: [],
    ride: [point(1, -2)],
    trim: [],
    offset: 1.5,
    ramp: 0.06,
  };
  const inside: Inside = { phrases: [], strays: [stray("a", 0.2, 2), stray("b", 1.1, -3), stray("gone", 9, 9)] };
  const clips = [clip({ id: "a" }), clip({ id: "b", start: 1 })];
  const inHand = (lane: LaneName, points: Ride["ride"]) => {
    useView.setState({ lane, stage: "ride" });
    heardOfTrack.answer = { ...NOTHING, drawn: { lanes: { ...ride, [lane]: points }, passes: [] } };
  };

  it("lists what strays, furthest first, or by time", () => {
    expect(strayList(inside, null, clips, "worst").map((item) => item.deviation)).toEqual([-3, 2]);
    expect(strayList(inside, null, clips, "time").map((item) => item.deviation)).toEqual([2, -3]);
    expect(strayList(null, null, clips, "time")).toEqual([]);
    const draft = { strays: [0.5, -1, 0], phrases: [{ clip: "b", before: 1, after: 1, reason: "most up" }] };
    const [first, second] = strayList(inside, draft as unknown as RideDraft, clips, "worst");
    expect([first!.drafted, first!.reason, second!.drafted, second!.reason]).toEqual([-1, "most up", 0.5, null]);
  });

  it("shows a point with the hand that holds it, and a trim with its offset", () => {
    inHand("ride", ride.ride);
    expect(heldPoint(ride.ride[0]!)).toEqual({ at: 1, db: -2 });
    hand.points = { ids: new Set(["p1"]), seconds: 0.5, db: 1 };
    expect(heldPoint(ride.ride[0]!)).toEqual({ at: 1.5, db: -1 });
    hand.points = { ids: new Set(), seconds: 0, db: 0 };
    useView.setState({ lane: "trim" });
    expect(heldPoint(ride.ride[0]!).db).toBe(-0.5);
  });

  it("lifts a span with the ramps that the server gives it", () => {
    inHand("ride", ride.ride);
    expect(liftLine({ start: 2, end: 3 }, 4)).toEqual([
      [1.94, 0],
      [2, 4],
      [3, 4],
      [3.06, 0],
    ]);
  });

  it("holds a moved point as a tent between its neighbours, and as more at the ends of a lane", () => {
    inHand("ride", [point(1, 0), point(2, 0), point(3, 0)]);
    const at = (line: Line, t: number) => gainAt({ at: line.map(([x]) => x), db: line.map(([, y]) => y) }, t);
    const middle = pointsLine(new Set(["p2"]), 0, 4);
    expect([1, 1.5, 2, 2.5, 3, 9].map((t) => at(middle, t))).toEqual([0, 2, 4, 2, 0, 0]);
    const last = pointsLine(new Set(["p3"]), 0, -2);
    expect([2, 2.5, 3].map((t) => at(last, t))).toEqual([0, -1, -2]);
    expect(pointsLine(new Set(["p2"]), 0.5, 0).every(([, db]) => db === 0)).toBe(true);
  });

  it("leaves the clips beside a moved point of a clip curve alone", () => {
    useSession.setState({
      header: {
        tracks: [{ id: "t", range_low: -20, range_high: 6, timeline: { duration: 4, missing: true } }],
      } as never,
      clips: { t: [clip({ id: "a", start: 0, end: 2 }), clip({ id: "b", start: 2, end: 4 })] },
    });
    useView.setState({ focus: "t" });
    inHand("curve", [point(1, 0, "a"), point(3, 0, "b")]);
    const line = pointsLine(new Set(["p1"]), 0, 3);
    expect(line.filter(([t]) => t > 2).every(([, db]) => db === 0)).toBe(true);
    expect(line.find(([t, db]) => t === 0 && db === 3)).toBeTruthy();
    // within the working range, together
    expect(kept(9, [0, 2])).toBe(4);
    expect(kept(-30, [-5, 2])).toBe(-15);
    expect(kept(2, [7])).toBe(0);
    useView.setState({ focus: "", lane: "ride" });
  });
});
