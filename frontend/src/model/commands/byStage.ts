/** What a key does, by the stage that is open: the same key works on phrases, on marks, on what is drawn, or on lanes. */
import { tell } from "../../parts/messages";
import { draftOrAcceptDuck, draftOrAcceptSlow } from "../drafts/balance";
import { stepBalance } from "../drafts/balanceList";
import { dropDrafts } from "../drafts/drafts";
import { allDown, nudgeMarks, resetMarks, selectMarks, stepMark } from "../hand/details";
import { draftOrAccept, nudge, zero } from "../hand/gain";
import { deleteDrawn, draftOrAcceptRide, nudgeRide } from "../hand/ride";
import { stepRide } from "../hand/strays";
import { step } from "../hand/worklist";
import { choosePass, keepPass } from "../passes/passes";
import { MODES, setMode, useRiding } from "../passes/riding";
import { focused } from "../server/focus";
import { render } from "../server/renders";
import { useView } from "../view/view";

/** In the stage Details the hand works on marks, in the stage Ride on what is drawn; everywhere else on phrases. */
const inDetails = () => useView.getState().stage === "details" && useView.getState().selection.size === 0;
export const either =
  (phrases: () => void, details: () => void, ride = phrases) =>
  () => {
    if (useView.getState().stage === "ride") ride();
    else if (inDetails()) details();
    else phrases();
  };

export function go(direction: 1 | -1, onlyOff: boolean) {
  const { stage } = useView.getState();
  if (stage === "details") stepMark(direction, onlyOff);
  else if (stage === "ride") stepRide(direction);
  else if (stage === "balance") stepBalance(direction, onlyOff);
  else step(direction, onlyOff);
}

export const nudgeEither = (by: number) =>
  either(
    () => nudge(by),
    () => nudgeMarks(by),
    () => nudgeRide(by),
  );

export const zeroOrReset = either(zero, resetMarks, () => void deleteDrawn());

export const draftOrAllDown = () => {
  const { stage } = useView.getState();
  if (stage === "details") void allDown();
  else if (stage === "ride" && useRiding.getState().chosen) void keepPass();
  else if (stage === "ride") (focused()?.kind === "bed" ? draftOrAcceptSlow : draftOrAcceptRide)();
  else if (stage === "balance") draftOrAcceptDuck();
  else if (stage === "signoff") void render();
  else draftOrAccept();
};

export const otherMode = () => setMode(MODES[(MODES.indexOf(useRiding.getState().mode) + 1) % MODES.length]!);

export const inRide = (work: () => void) => () => {
  if (useView.getState().stage === "ride") work();
  else tell("This works in the stage Ride.");
};

/** The keys of the play line do something with clips in Survey, where some are selected. */
export const clipsOr = (clips: () => void, line: () => void) => () => {
  const { stage, selection } = useView.getState();
  if (stage === "survey" && selection.size > 0) clips();
  else line();
};

/** What the keys of lanes do, where the lanes are. */
export const inLanes = (work: () => void) => () => {
  if (useView.getState().stage === "survey") work();
  else tell("This works in the stage Survey.");
};

export const rideOrLanes = (ride: () => void, lanes: () => void) => () => {
  const { stage } = useView.getState();
  if (stage === "ride") ride();
  else if (stage === "survey") lanes();
  else tell("This works in the stages Survey and Ride.");
};

export function dropOrClear() {
  if (dropDrafts()) return;
  if (useRiding.getState().chosen) void choosePass(null);
  else selectMarks([]);
}

export function openExact() {
  const [first] = useView.getState().selection;
  if (first) useView.setState({ exact: first });
}
