// Chunks: the cut drawn into a document and summed up over all, before anything is built.
import { useDeferredValue, useMemo, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useFamily } from "../../api/catalogue";
import { ApiError } from "../../api/client";
import { useChunkFigures, useCut } from "./api";
import { useDocument, useDocuments, useLine } from "../../api/queries";
import { useSaveRecipe } from "../../recipe/api";
import { Empty, Failed, Loading, Shown } from "../../shell/states";
import { milliseconds } from "../../text/numbers";
import { Bars } from "../shared/Bars";
import { CutFigures } from "./CutFigures";
import { CutSettings } from "./CutSettings";
import { CutText } from "./CutText";
import { Problems, type Spot } from "./Problems";
import { described, same, type Chunking } from "./settings";
import { useSettled } from "./settled";

export function Chunks() {
  const line = useLine();
  const documents = useDocuments();
  const recipe = line.data?.recipe;
  const rules = useFamily("chunking");
  const inForce = recipe?.body.chunking as Chunking | undefined;
  if (!rules.kinds.length || !inForce || !recipe || documents.data === undefined)
    return <Loading what="Reading the recipe" />;
  if (!documents.data.length)
    return <Empty title="No documents yet">Import some in the Documents stage.</Empty>;
  return <Bench key={recipe.id} inForce={inForce} body={recipe.body} />;
}

function Bench({ inForce, body }: { inForce: Chunking; body: object }) {
  const rules = useFamily("chunking");
  const documents = useDocuments();
  const [chunking, setChunking] = useState(inForce);
  const [both, setBoth] = useState(false);
  const [opened, setOpened] = useState<number | null>(null);
  const [spot, setSpot] = useState<Spot | null>(null);
  const longest = useMemo(
    () => [...(documents.data ?? [])].sort((a, b) => b.words - a.words)[0]?.id ?? null,
    [documents.data],
  );
  const number = opened ?? longest;
  const document = useDocument(number);
  const changed = !same(rules, chunking, inForce);
  const cut = useCut(number, chunking);
  const before = useCut(both ? number : null, inForce);
  const figures = useChunkFigures(useSettled(chunking, 250));
  const figuresBefore = useChunkFigures(changed ? inForce : null);
  const save = useSaveRecipe(() => undefined);
  const shown = useDeferredValue(cut.data);
  const wrong = cut.error instanceof ApiError ? cut.error.message : undefined;
  function show(place: Spot) {
    setOpened(place.document);
    setSpot(place);
  }
  return (
    <>
      <div className="head cut-head">
        <h2 className="serif">Chunks</h2>
        <span className="small-text soft">{described(rules, chunking)}</span>
        <span className="ms-auto d-flex gap-2">
          {changed && (
            <>
              <Button
                size="sm"
                disabled={save.isPending || Boolean(wrong)}
                onClick={() =>
                  save.mutate({ body: { ...body, chunking }, note: `Cut: ${described(rules, chunking)}` })
                }
              >
                Use and build
              </Button>
              <Button size="sm" variant="outline-secondary" onClick={() => setChunking(inForce)}>
                As in force
              </Button>
            </>
          )}
          <Button
            size="sm"
            variant="outline-primary"
            aria-pressed={both}
            active={both}
            onClick={() => setBoth(!both)}
          >
            Side by side
          </Button>
        </span>
        <CutSettings chunking={chunking} set={setChunking} wrong={wrong ?? save.error?.message} />
      </div>
      <div className="body cut-body">
        <aside>
          {figures.data ? (
            <>
              <CutFigures one={figures.data} other={changed ? figuresBefore.data : undefined} />
              <Problems figures={figures.data} show={show} />
              <Bars
                tone="var(--fused)"
                height={120}
                data={figures.data.bins.map((bin) => ({ name: String(bin.high), value: bin.chunks }))}
                x="encoder tokens, up to"
                y="chunks of all documents"
                mark={markAt(figures.data.bins, figures.data.limit)}
              />
            </>
          ) : figures.error && !wrong ? (
            <Failed error={figures.error} />
          ) : (
            <Loading what="Cutting all documents" />
          )}
        </aside>
        <section>
          <div className="d-flex gap-2 align-items-center mb-1">
            <Form.Select
              size="sm"
              aria-label="Document"
              value={number ?? ""}
              onChange={(event) => {
                setOpened(Number(event.target.value));
                setSpot(null);
              }}
            >
              {documents.data?.map((row) => (
                <option key={row.id} value={row.id}>
                  {row.title} ({row.words.toLocaleString()} words)
                </option>
              ))}
            </Form.Select>
            <span
              className="small-text soft num text-nowrap"
              data-cut={cut.isPlaceholderData ? "old" : "new"}
            >
              {shown && `${shown.chunks.length} chunks, cut in ${milliseconds(shown.seconds)}`}
            </span>
          </div>
          <Legend />
          <Shown query={document} what="Opening the document">
            {(data) => (
              <div className={both ? "cut-pair" : "cut-one"}>
                {both && (
                  <div className="text-pane">
                    <h3>In force: {described(rules, inForce)}</h3>
                    <CutText document={data} cut={before.data} show={spot?.start} focus={spot} />
                  </div>
                )}
                <div className="text-pane">
                  {both && <h3>This: {described(rules, chunking)}</h3>}
                  <CutText document={data} cut={shown} show={spot?.start} focus={spot} />
                </div>
              </div>
            )}
          </Shown>
        </section>
      </div>
    </>
  );
}

function Legend() {
  return (
    <div className="cut-legend small-text reader">
      <span>
        <span className="chunk-start">7</span> chunk begins
      </span>
      <mark className="twice">stored twice</mark>
      <mark className="past">not read by the encoder</mark>
      <mark className="answer">answer, whole</mark>
      <mark className="cut">answer, cut</mark>
    </div>
  );
}

function markAt(bins: { low: number; high: number }[], limit: number) {
  const bin = bins.find((row) => row.low < limit && row.high >= limit);
  return bin && { at: String(bin.high), label: `encoder reads ${limit}` };
}
