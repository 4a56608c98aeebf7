// Asking by a picture: dropped, pasted or chosen, alone or beside words, with a weight to drag.
import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { sendForm, type QuestionRow } from "../api/client";
import { useChangeQuestion } from "../labels/api";
import { HALF, useGo, usePin, type StageName } from "../shell/pin";
import { useMay, useWorkspace } from "../shell/workspace";

/** Brings a picture and asks by it, beside the words that are given or that are pinned. */
export function useAskByPicture() {
  const workspace = useWorkspace();
  const go = useGo();
  const pin = usePin();
  return useMutation({
    mutationFn: ({ file }: { file: File; words?: string; stage?: StageName }) => {
      const form = new FormData();
      form.append("file", file, file.name || `picture.${file.type.split("/")[1] ?? "png"}`);
      return sendForm<{ picture: string }>(`/api/workspaces/${workspace}/asked-pictures`, form);
    },
    onSuccess: ({ picture }, { words, stage }) =>
      go({
        stage,
        pin: {
          question: pin.question,
          text: pin.question === null ? (words ?? pin.text ?? "") : null,
          picture,
          share: pin.share,
        },
      }),
  });
}

const whole = (share: number) => `${Math.round(100 * share)} %`;

/** The picture that belongs to a labelled question, which trials ask it by. */
function OwnPicture({ question, other }: { question: QuestionRow; other: () => void }) {
  const workspace = useWorkspace();
  const mayEdit = useMay("editor");
  const change = useChangeQuestion();
  return (
    <div className="asked-by">
      <img
        src={`/api/workspaces/${workspace}/asked-pictures/${question.picture}`}
        alt="The picture that belongs to the question"
      />
      <div>
        <span className="small-text num">
          Belongs to the question: picture {whole(question.share)}, words {whole(1 - question.share)}
        </span>
        <span className="d-flex gap-3">
          <Button variant="link" className="p-0 small-text" onClick={other}>
            Another
          </Button>
          {mayEdit && (
            <Button
              variant="link"
              className="p-0 small-text"
              disabled={change.isPending}
              onClick={() => change.mutate({ question: question.id, change: { picture: "" } })}
            >
              Take it away
            </Button>
          )}
        </span>
      </div>
    </div>
  );
}

/** Makes the picture that is asked by a part of the pinned question. */
function Keep({ question, picture, share }: { question: QuestionRow; picture: string; share: number }) {
  const mayEdit = useMay("editor");
  const change = useChangeQuestion();
  const go = useGo();
  if (!mayEdit) return null;
  return (
    <Button
      variant="link"
      className="p-0 small-text"
      disabled={change.isPending}
      title="Trials ask the question by it from then on"
      onClick={() =>
        change.mutate(
          { question: question.id, change: { picture, share } },
          { onSuccess: () => go({ pin: { question: question.id, text: null } }) },
        )
      }
    >
      Keep it
    </Button>
  );
}

/** The first picture of what was dropped or pasted. */
export const pictureOf = (data: DataTransfer | null): File | undefined =>
  [...(data?.files ?? [])].find(({ type }) => type.startsWith("image/"));

export function AskPicture({
  words,
  ask,
  question,
}: {
  words: string;
  ask: ReturnType<typeof useAskByPicture>;
  /** The labelled question that is pinned. */
  question: QuestionRow | undefined;
}) {
  const workspace = useWorkspace();
  const go = useGo();
  const pin = usePin();
  const input = useRef<HTMLInputElement>(null);
  // What is dragged is asked when it is let go.
  const [dragged, setDragged] = useState<number | null>(null);
  const share = dragged ?? pin.share ?? HALF;
  const alone = pin.question === null && !pin.text;
  const settle = () => {
    if (dragged !== null) go({ pin: { ...pin, share: dragged } });
    setDragged(null);
  };
  return (
    <div className="ask-picture">
      <input
        ref={input}
        type="file"
        hidden
        accept="image/png,image/jpeg,image/webp,image/svg+xml"
        aria-label="A picture to ask by"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) ask.mutate({ file, words: words.trim() });
          event.target.value = "";
        }}
      />
      {!pin.picture && question?.picture ? (
        <OwnPicture question={question} other={() => input.current?.click()} />
      ) : !pin.picture ? (
        <Button variant="link" className="p-0 small-text" onClick={() => input.current?.click()}>
          {ask.isPending ? "Bringing the picture…" : "or ask by a picture: drop, paste or choose one"}
        </Button>
      ) : (
        <div className="asked-by">
          <img
            src={`/api/workspaces/${workspace}/asked-pictures/${pin.picture}`}
            alt="The picture that is asked by"
          />
          <div>
            {alone ? (
              <span className="small-text">Asked by this picture alone; words may stand beside it.</span>
            ) : (
              <>
                <Form.Range
                  min={0}
                  max={1}
                  step={0.1}
                  value={share}
                  aria-label="What the picture counts beside the words"
                  aria-valuetext={`picture ${whole(share)}, words ${whole(1 - share)}`}
                  onChange={(event) => setDragged(Number(event.target.value))}
                  onPointerUp={settle}
                  onKeyUp={settle}
                  onBlur={settle}
                />
                <span className="d-flex justify-content-between small-text soft num">
                  <span>words {whole(1 - share)}</span>
                  <span>picture {whole(share)}</span>
                </span>
              </>
            )}
            <span className="d-flex gap-3">
              <Button variant="link" className="p-0 small-text" onClick={() => input.current?.click()}>
                Another
              </Button>
              {question && <Keep question={question} picture={pin.picture} share={share} />}
              <Button
                variant="link"
                className="p-0 small-text"
                onClick={() => go({ pin: { question: pin.question, text: pin.text || null } })}
              >
                Without it
              </Button>
            </span>
          </div>
        </div>
      )}
      {ask.error && (
        <p className="lost small-text mb-0" role="alert">
          {ask.error.message}
        </p>
      )}
    </div>
  );
}
