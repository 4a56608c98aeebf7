// What was answered from the context: each sentence tied to the piece that it stands in, or why nothing was said.
import type { Asked } from "../../api/client";
import { percent, score } from "../../text/numbers";
import { goToPiece } from "./PieceCard";

export function AnswerSaid({ asked }: { asked: Asked }) {
  const answer = asked.trace.answer;
  if (!answer) return null;
  const worth = asked.handed.answer;
  return (
    <section className="answer-said mb-3" aria-label="Answer">
      <h3>Answer</h3>
      {answer.sentences.length === 0 ? (
        <p className="mb-1">
          <strong>Nothing found.</strong> <span className="soft">{answer.silent}</span>
        </p>
      ) : (
        <p className="said mb-1">
          {answer.sentences.map((said, at) => (
            <span key={at} className={worth?.labelled[at] ? "right" : ""}>
              {said.text}
              {said.cites.map((number) => (
                <button
                  key={number}
                  className="cite num"
                  title={`${said.score ? `fits with ${score(said.score)}; ` : ""}go to piece ${number}`}
                  aria-label={`Go to piece ${number}`}
                  onClick={() => goToPiece(number)}
                >
                  {number}
                </button>
              ))}{" "}
            </span>
          ))}
        </p>
      )}
      {worth && (
        <p className="small-text soft num mb-0">
          Beside the label: word F1 {score(worth.f1)}, holds {percent(worth.holds)} of its words
          {worth.cited !== null && `, ${percent(worth.cited)} of the sentences cite what is labelled`}
          {worth.exact === 1 && ", word for word the same"}. Larger is better.
        </p>
      )}
    </section>
  );
}
