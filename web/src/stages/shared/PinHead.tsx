// The pinned question, what became of it, and what this stage did to it, in one sentence.
import { Button } from "react-bootstrap";
import type { Asked } from "../../api/client";
import { BeforeSearch } from "../../before/BeforeSearch";
import { Past } from "../../questions/Past";
import { KeepQuestion, QuestionTools } from "../../questions/QuestionTools";
import { TITLES, toneOfCause, usePin, type StageName } from "../../shell/pin";
import { milliseconds } from "../../text/numbers";
import { stageOfKind } from "./trace";
import { WhyNot } from "./WhyNot";

/** Ends of a question that has its answer, or whose answer no chunk holds. */
const FINE = ["delivered", "cut by chunking", ""];

export function PinHead({
  asked,
  stage,
  columns,
  setColumns,
}: {
  asked: Asked;
  stage: StageName;
  /** Whether stages and recipes stand side by side instead of the view of one stage. */
  columns: boolean;
  setColumns: (columns: boolean) => void;
}) {
  const total = Object.values(asked.trace.seconds).reduce((sum, value) => sum + value, 0);
  const answer = asked.spans[0];
  const { picture } = usePin();
  return (
    <div className="head">
      <div className="d-flex align-items-baseline gap-3">
        <h2 className="serif">{asked.trace.question || "What a picture shows"}</h2>
        <span className="ms-auto soft small-text num text-nowrap">
          {asked.built && `${milliseconds(total)} in all`}
        </span>
        {asked.question ? (
          <QuestionTools row={asked.question} />
        ) : (
          asked.trace.question && <KeepQuestion text={asked.trace.question} />
        )}
      </div>
      {picture && asked.built && !asked.sees && (
        <p className="lost small-text mb-0">
          No branch of this recipe looks at pictures. Add “pictures” in Edit recipe to find anything by one.
        </p>
      )}
      <div className="small-text">
        {!asked.question && !asked.trace.question ? (
          <span className="soft">
            Asked by a picture alone: it has no label, so nothing can be called lost.{" "}
          </span>
        ) : asked.question ? (
          <>
            {asked.cause && (
              <strong style={{ color: toneOfCause(asked.cause) }}>
                {asked.cause[0]!.toUpperCase() + asked.cause.slice(1)}.
              </strong>
            )}{" "}
            {asked.built && answer && !FINE.includes(asked.cause ?? "") && (
              <>
                <WhyNot asked={asked}>Why not?</WhyNot>{" "}
              </>
            )}
            {(answer || asked.question.unanswerable) && (
              <>
                <Past row={asked.question} />{" "}
              </>
            )}
            {answer ? (
              <span className="soft">
                Answer in {answer.title}
                {answer.section.length > 1 && `, ${answer.section[answer.section.length - 1]}`}
                {asked.spans.length > 1 && ` and ${asked.spans.length - 1} more`}.{" "}
              </span>
            ) : asked.question.unanswerable ? (
              <span className="soft">No document answers it; the context should stay empty. </span>
            ) : (
              <span className="soft">
                No label yet, so no trial asks it. Press g and select the words that answer it.
              </span>
            )}
            {answer && asked.built && <span>{sentence(asked, stage)}</span>}
          </>
        ) : (
          <span className="soft">
            Typed question: without a label nothing can be called lost. Keep it to give it one.
          </span>
        )}
      </div>
      {stage !== "documents" && stage !== "chunks" && asked.built && (
        <div className="before-line">
          <BeforeSearch asked={asked} />
          <Button
            size="sm"
            variant="link"
            className="p-0"
            aria-pressed={columns}
            onClick={() => setColumns(!columns)}
          >
            {columns ? "One stage" : "Side by side"}
          </Button>
        </div>
      )}
      {asked.absent.count > 0 && <Absent absent={asked.absent} />}
    </div>
  );
}

/** While an index is built the last complete one answers: which documents it does not have. */
function Absent({ absent }: { absent: Asked["absent"] }) {
  const named = absent.documents.slice(0, 3).map((document) => document.title);
  const others = absent.count - named.length;
  return (
    <div className="notice small-text" role="status">
      Not in the index yet: {named.join(", ")}
      {others > 0 && ` and ${others} more`}. They are found once the build is done.
    </div>
  );
}

function sentence(asked: Asked, stage: StageName): string {
  if (stage === "documents" || stage === "chunks") {
    const intact = asked.spans.some((span) => span.intact);
    return intact ? "One chunk holds an answer whole." : "No chunk holds an answer whole.";
  }
  const trace = stageOfKind(asked, stage);
  if (!trace) return `This recipe has no ${TITLES[stage].toLowerCase()} stage.`;
  const rank = asked.ranks[trace.stage];
  if (!rank) return `The first ${trace.chunks.length} chunks here hold no answer.`;
  const reason = trace.reasons[rank - 1];
  return `First relevant chunk at ${rank} of ${trace.chunks.length} here${reason ? `: ${reason}` : ""}.`;
}
