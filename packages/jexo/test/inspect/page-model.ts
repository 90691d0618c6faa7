/**
 * What the bench sends is what the page believes it gets: checked when the tests are compiled, since the page may import nothing of
 * the library. A line that does not compile names the type that has drifted.
 */
import type * as page from '../../../../apps/inspector/src/model.js';
import type { Candidate, Move } from '../../src/models/model.js';
import type { BenchSheets, OpenedSheet } from '../../src/inspect/bench-sheets.js';
import type { CallEvent, CallRequest, CallSheet, Question, StderrLine } from '../../src/inspect/bench-state.js';
import type { ConnectionSpec, ConnectionState } from '../../src/inspect/connection.js';
import type { CopyForm } from '../../src/inspect/copy-call.js';
import type { Difference } from '../../src/inspect/difference.js';
import type { ModelView } from '../../src/inspect/model-view.js';
import type { WireEntry } from '../../src/inspect/recorder.js';
import type { Rehearsed, RehearsedRequest } from '../../src/inspect/rehearsal/rehearse.js';
import type { Series } from '../../src/inspect/series.js';
import type { ReplayedCall } from '../../src/inspect/sheets/replay.js';
import type { Trouble } from '../../src/inspect/trouble.js';
import type { Readable } from '../../src/inspect/value-text.js';
import type { Issue } from '../../src/offers/schema.js';
import type { Omission } from '../../src/offers/source.js';

type Fits<Sent extends Expected, Expected> = [Sent, Expected];

/** An offer of the shelf is of one kind; the page reads it as whichever its kind says. */
type Shelved<S extends { readonly shelf: unknown }> = Omit<S, 'shelf'>;

export type Sent = [
  Fits<Shelved<ConnectionState>, Shelved<page.ConnectionState>>,
  Fits<ConnectionSpec, page.ConnectionSpec>,
  Fits<Omission, page.Omission>,
  Fits<Trouble, page.Trouble>,
  Fits<CallSheet, page.CallSheet>,
  Fits<CallEvent, page.CallEvent>,
  Fits<Question, page.Question>,
  Fits<Issue, page.Issue>,
  Fits<Readable, page.Readable>,
  Fits<Series, page.Series>,
  Fits<StderrLine, page.StderrLine>,
  Fits<WireEntry, page.WireEntry>,
  Fits<Difference, page.Difference>,
  Fits<ModelView, page.ModelView>,
  Fits<Awaited<ReturnType<BenchSheets['list']>>[number], page.SheetName>,
  Fits<OpenedSheet, page.OpenedSheet>,
  Fits<Awaited<ReturnType<BenchSheets['replay']>>, page.Replayed>,
  Fits<ReplayedCall, page.ReplayedCall>,
  Fits<Candidate, page.Candidate>,
  Fits<Move, page.Move>,
  Fits<RehearsedRequest, page.RehearsedRequest>,
  Fits<Rehearsed, page.Rehearsed>,
];
/** And what the page sends is what the bench takes. */
export type Taken = [Fits<page.CallRequest, CallRequest>, Fits<page.ConnectionSpec, ConnectionSpec>, Fits<page.CopyForm, CopyForm>];
