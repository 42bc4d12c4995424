/**
 * What the server is asked for besides the session. An answer is known by what it is of: a question has a key, and what comes for
 * another key than the one that holds by then is not looked at. While a new key loads, what was there stays if it is of the same
 * thing.
 */
import { CancelledError } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import { queries } from "../../api/cache";
import { complain } from "../../parts/messages";
import { isOvertaken, isStopped } from "../../parts/problem";
import { redraw, useView } from "../view/view";
import { allAnswered, catchUp, edited } from "./edits";
import { useSession } from "./session";

/** ``of`` is the thing that is asked about, ``key`` the state of it. */
export interface Question<T> {
  of: string;
  key: string;
  ask: (signal: AbortSignal) => Promise<T>;
}

/** Answers that are kept are looked at again after an undo, or on the way from one track to another. */
const KEPT = 30_000;

export class Asked<T> {
  private of = "";
  /** The key that was found to be over when its turn came. */
  private caught: string | null = null;
  private key: string | null = null;
  private having: Promise<void> = Promise.resolve();
  private readonly listeners = new Set<() => void>();
  /** What holds, or held a moment ago of the same thing. */
  answer: T | null = null;

  /** ``question`` tells from session and view what is to be known now; null: nothing. */
  constructor(
    private readonly name: string,
    private readonly question: () => Question<T> | null,
  ) {
    useSession.subscribe((now, old) => {
      // what could not be had is asked for again with the next edit, or when it is asked to be
      if (this.hasFailed && now.header !== old.header && !this.isStopped) this.again();
      else this.follow();
    });
    useView.subscribe(this.follow);
  }

  /** Whether what is there is of the state that holds, or could not be had. */
  get isSettled(): boolean {
    return this.settledKey === this.key;
  }
  private settledKey: string | null = null;
  /** Whether what holds could not be had, or was called off. */
  hasFailed = false;
  private isStopped = false;

  /** Ask for what holds now, if it is not known or on its way. */
  readonly follow = () => {
    const question = this.question();
    const key = question && `${question.of} ${question.key}`;
    if (key === this.key) return;
    this.takeBack();
    this.key = key;
    this.hasFailed = this.isStopped = false;
    if (question?.of !== this.of) {
      this.of = question?.of ?? "";
      if (this.answer !== null) this.put(null);
    }
    if (question) this.having = this.have(question, key!);
    else this.settledKey = null;
    this.tell();
  };

  /** Ask again for what could not be had. */
  again(): void {
    this.key = null;
    this.follow();
  }

  /** Resolves when what holds is there, or could not be had. */
  async settled(): Promise<void> {
    this.follow();
    let having: Promise<void>;
    do {
      having = this.having;
      await having;
    } while (having !== this.having);
  }

  /** Forget what is there, and ask again when it is wanted. */
  forget(): void {
    this.takeBack();
    this.key = null;
    this.of = "";
    if (this.answer !== null) this.put(null);
  }

  /** What is on its way is not wanted any more. */
  private takeBack(): void {
    if (this.key !== null && !this.isSettled) void queries.cancelQueries({ queryKey: [this.name, this.key] });
  }

  private async have({ ask }: Question<T>, key: string): Promise<void> {
    try {
      // what an edit that is on its way makes another of is not asked for
      await allAnswered();
      if (this.key !== key) return;
      const answer = await queries.fetchQuery({
        queryKey: [this.name, key],
        queryFn: ({ signal }) => ask(signal),
        retry: false,
        staleTime: Number.POSITIVE_INFINITY,
        gcTime: KEPT,
      });
      if (this.key !== key) return;
      this.settledKey = key;
      this.put(answer);
    } catch (error) {
      if (this.key !== key || error instanceof CancelledError) return;
      if (!isOvertaken(error)) {
        this.settledKey = key;
        this.hasFailed = true;
        this.isStopped = isStopped(error);
        this.tell();
        return complain(error);
      }
      // an edit that is on its way tells the new key; else another window has made it, and the session is told anew, once
      await edited();
      if (this.key !== key || this.caught === key) return;
      this.caught = key;
      this.key = null;
      void catchUp();
    }
  }

  private put(answer: T | null): void {
    this.answer = answer;
    this.tell();
  }

  private tell(): void {
    for (const listener of [...this.listeners]) listener();
    redraw();
  }

  readonly subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  /** The answer, for what is shown by it. */
  useAnswer(): T | null {
    return useSyncExternalStore(this.subscribe, () => this.answer);
  }

  /** Whether an answer is on its way, and whether what holds could not be had. */
  useState(): { working: boolean; missing: boolean } {
    const working = useSyncExternalStore(this.subscribe, () => !this.isSettled);
    const missing = useSyncExternalStore(this.subscribe, () => this.hasFailed);
    return { working, missing };
  }
}
