/** One session: the frame with its stages around the one picture. */
import { Button, Loader } from "@mantine/core";
import { useCallback, useEffect, useMemo, useState } from "react";
import { Link, useLocation, useNavigate, useNavigationType, useParams, useSearchParams } from "react-router";
import { commands } from "../model/commands/commands";
import { draftsAgain, dropDrafts } from "../model/drafts/drafts";
import { offerAgain } from "../model/hand/timeline";
import { leaveSound } from "../model/heard/heard";
import { onStopped, stop } from "../model/heard/listening";
import { fitAll, fitSelection, show } from "../model/heard/looking";
import { stopControllers } from "../model/passes/controllers";
import { startRiding } from "../model/passes/passes";
import { catchUp, closeSession, openSession } from "../model/server/edits";
import { selectedClips, selectedMarks, selectedSpan } from "../model/server/focus";
import { listenForNews } from "../model/server/news";
import { trackOf, useSession } from "../model/server/session";
import { tellCutOff, upload } from "../model/server/uploads";
import { ALL_LAYERS, type Span, STAGES, type Stage, useView } from "../model/view/view";
import { Problem } from "../parts/problem";
import { Picture } from "../picture/Picture";
import { engine } from "../sound/engine";
import { BalanceList } from "../stages/BalanceList";
import { BalanceRule } from "../stages/BalanceRule";
import { DetailsList } from "../stages/DetailsList";
import { DetailsRule } from "../stages/DetailsRule";
import { DropArea, Readable } from "../stages/DropArea";
import { Hand } from "../stages/Hand";
import { JobList, useFinishedImports } from "../stages/JobList";
import { PhrasesRule } from "../stages/PhrasesRule";
import { RideList } from "../stages/RideList";
import { RideRule } from "../stages/RideRule";
import { SignOffList, SignOffRule } from "../stages/SignOff";
import { SurveyList, SurveyRule } from "../stages/Survey";
import { Worklist } from "../stages/Worklist";
import { BrokenSession } from "./BrokenSession";
import { ByName } from "./ByName";
import { Header } from "./Header";
import { Keys } from "./Keys";
import { Led, OF_LEADERS } from "./Led";
import { MessageBar } from "./MessageBar";
import { TrackBar } from "./TrackBar";
import { Transport } from "./Transport";
import { useKeys } from "./useKeys";
import "./SessionPage.css";

const FIRST_LOOK = 32;
const RULES = {
  survey: SurveyRule,
  phrases: PhrasesRule,
  details: DetailsRule,
  ride: RideRule,
  balance: BalanceRule,
  signoff: SignOffRule,
};
const LISTS = {
  survey: SurveyList,
  phrases: Worklist,
  details: DetailsList,
  ride: RideList,
  balance: BalanceList,
  signoff: SignOffList,
};

/** Track and selection as they stand in the address; a large selection is left out. */
function stateSearch(): string {
  const { focus, selection, marks, span } = useView.getState();
  const search = new URLSearchParams();
  if (focus) search.set("track", focus);
  if (selection.size <= 12) for (const phrase of selection) search.append("phrase", phrase);
  if (marks.size <= 12) for (const mark of marks) search.append("mark", mark);
  if (span) search.set("span", `${span.start.toFixed(4)}-${span.end.toFixed(4)}`);
  return search.toString();
}

/** The span that an address names. */
function spanIn(search: URLSearchParams): Span | null {
  const [start, end] = (search.get("span") ?? "").split("-").map(Number);
  return start !== undefined && end !== undefined && start >= 0 && end > start ? { start, end } : null;
}

export function SessionPage() {
  const { id = "", stage: named } = useParams();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const addressed: Stage = STAGES.includes(named as Stage) ? (named as Stage) : "survey";
  const { key: place } = useLocation();
  const came = useNavigationType();
  const stage = useView((s) => s.stage);
  const header = useSession((s) => (s.id === id ? s.header : null));
  const [error, setError] = useState<Problem | null>(null);
  const [tries, setTries] = useState(0);

  // biome-ignore lint/correctness/useExhaustiveDependencies: the address is read when a session opens; later it follows
  useEffect(() => {
    setError(null);
    // the one that was left may be this one
    dropDrafts();
    useView.setState({
      stage: addressed,
      focus: search.get("track") ?? "",
      selection: new Set(search.getAll("phrase")),
      marks: new Set(search.getAll("mark")),
      span: spanIn(search),
      before: false,
      alone: false,
      beforeAll: false,
      load: false,
      behind: false,
      points: new Set(),
      layers: ALL_LAYERS,
      exact: null,
    });
    openSession(id, () => {
      offerAgain(id);
      tellCutOff(id);
      draftsAgain(id);
      if (selectedMarks().length > 0) show(selectedSpan()!, 20);
      else if (selectedClips().length > 0) fitSelection();
      else if (addressed !== "survey" && addressed !== "signoff") show({ start: 0, end: FIRST_LOOK }, 0);
      else fitAll();
    }).catch((problem) =>
      setError(problem instanceof Problem ? problem : new Problem(0, "The session could not be opened.")),
    );
    engine.onStop = onStopped;
    engine.onStale = catchUp;
    const endRiding = startRiding();
    const endNews = listenForNews(id);
    return () => {
      endNews();
      endRiding();
      stopControllers();
      stop();
      leaveSound();
      closeSession();
    };
  }, [id, tries]);

  // Back and Forward bring their stage; where the hand goes to a stage the address only follows, and may be late
  // biome-ignore lint/correctness/useExhaustiveDependencies: every place that is come back to counts, its stage may be the same
  useEffect(() => {
    if (came === "POP") useView.setState({ stage: addressed });
  }, [addressed, came, place]);

  // the first recording that comes into an empty session is shown whole
  useEffect(
    () =>
      useSession.subscribe((now, old) => {
        const was = old.id === now.id && old.header !== null && old.header.tracks.length === 0;
        if (was && now.id === id && now.header && now.header.tracks.length > 0) fitAll();
      }),
    [id],
  );

  // the address follows track and selection, so that reload comes back to them
  useEffect(() => {
    let timer = 0;
    const unsubscribe = useView.subscribe((now, old) => {
      const isAlike = (["focus", "selection", "marks", "span"] as const).every((name) => now[name] === old[name]);
      if (isAlike) return;
      window.clearTimeout(timer);
      timer = window.setTimeout(() => {
        if (useSession.getState().id === id && stateSearch() !== window.location.search.slice(1)) {
          // of the stage that was gone to, which the page may not have been told of yet
          void navigate({ pathname: window.location.pathname, search: stateSearch() }, { replace: true });
        }
      }, 250);
    });
    return () => {
      unsubscribe();
      window.clearTimeout(timer);
    };
  }, [id, navigate]);

  const goStage = useCallback(
    async (next: Stage) => {
      // the stage that is left keeps what was selected in it, for Back
      const left = stateSearch();
      // the stage is there at once, for the hand and the keys that follow; the address takes its time
      useView.setState({ stage: next });
      await navigate({ pathname: window.location.pathname, search: left }, { replace: true });
      await navigate({ pathname: `/s/${id}/${next}`, search: stateSearch() });
    },
    [id, navigate],
  );
  const table = useMemo(() => commands((next) => void goStage(next)), [goStage]);
  useKeys(table);
  useFinishedImports();
  const focus = useView((s) => s.focus);
  const track = useSession((s) => trackOf(s, focus));
  const trackId = track?.id;
  useEffect(() => {
    if (header) document.title = `${header.name} - Nivelus`;
    if (!trackId) return;
    // another track, or the first one of a session: look at all of it
    const { window } = useView.getState();
    if (window.end > (trackOf(useSession.getState(), trackId)?.timeline.duration ?? 0)) fitAll();
  }, [header, trackId]);

  if (error?.kind === "Broken") {
    return <BrokenSession id={id} why={error.message} onWhole={() => setTries(tries + 1)} />;
  }
  if (error) {
    return (
      <main className="alone">
        <h1>{error.message}</h1>
        <Button component={Link} to="/">
          All sessions
        </Button>
        <MessageBar apart />
      </main>
    );
  }
  if (!header) {
    return (
      <main className="alone">
        <Loader />
        <MessageBar apart />
      </main>
    );
  }
  const Rule = RULES[stage];
  const List = LISTS[stage];
  const isLed = Boolean(track?.follows) && OF_LEADERS.has(stage);
  return (
    <div className="frame">
      <Header stage={stage} goStage={(next) => void goStage(next)} />
      {track ? (
        <>
          <aside className="side">
            {isLed && stage !== "ride" ? null : <Rule />}
            {isLed ? <Led track={track} /> : <List goStage={goStage} />}
          </aside>
          <main className="main">
            <TrackBar />
            {track.kind === "bed" && (stage === "phrases" || stage === "details") ? (
              <p className="note bed-note">
                “{track.name}” is a bed: it has no phrases and no details. Draw on it in the stage Ride, or let it make
                room for the voices in the stage Balance (5).
              </p>
            ) : null}
            <div className="picture-row">
              <Picture stage={stage} />
              {stage === "ride" && <Hand />}
            </div>
            <MessageBar />
          </main>
          <Transport />
        </>
      ) : (
        <Empty id={id} />
      )}
      <Keys table={table} />
      <ByName table={table} />
    </div>
  );
}

/** A session without a recording: the one thing to do is to bring one in. */
function Empty({ id }: { id: string }) {
  return (
    <main className="alone">
      <div className="empty">
        <DropArea onFiles={(files) => upload(id, files)}>
          <h2>Import a voice</h2>
          <p>Drop recordings or whole folders here, or click to choose them.</p>
          <p className="dim">
            <Readable />
          </p>
        </DropArea>
        <JobList kind="import" />
      </div>
      <MessageBar apart />
    </main>
  );
}
