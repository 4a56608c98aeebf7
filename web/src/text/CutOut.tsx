// A picture out of which a part can be cut to ask by: a drag marks it, the key c asks by the whole.
import { useRef, useState } from "react";
import { Button } from "react-bootstrap";
import { useAskByPicture } from "../questions/AskPicture";

interface Box {
  left: number;
  top: number;
  right: number;
  bottom: number;
}

const LEAST = 12;
/** Height of what can be pressed. */
const BUTTON = 40;
const boxOf = (a: { x: number; y: number }, b: { x: number; y: number }): Box => ({
  left: Math.min(a.x, b.x),
  top: Math.min(a.y, b.y),
  right: Math.max(a.x, b.x),
  bottom: Math.max(a.y, b.y),
});

/** Where what can be done with a part stands: under it, or on it where it ends with the picture. */
function under(box: Box, shown: HTMLImageElement | null): React.CSSProperties {
  const top = Math.min(box.bottom + 6, (shown?.getBoundingClientRect().height ?? Infinity) - BUTTON);
  return { top, left: box.left, right: "auto", bottom: "auto" };
}

/** A part in shares of the picture's sides. */
function shares(box: Box, shown: HTMLImageElement | null): [number, number, number, number] | null {
  if (!shown) return null;
  const { width, height } = shown.getBoundingClientRect();
  return [box.left / width, box.top / height, box.right / width, box.bottom / height];
}

export function CutOut({
  children,
  beside,
  over,
}: {
  children: React.ReactElement<React.ComponentProps<"img">>;
  /** What else can be done with the picture, or with the part of it that is marked, in shares of its sides. */
  beside?: (part: [number, number, number, number] | null) => React.ReactNode;
  /** What lies over the picture. */
  over?: React.ReactNode;
}) {
  const frame = useRef<HTMLSpanElement>(null);
  const [begun, setBegun] = useState<{ x: number; y: number } | null>(null);
  const [box, setBox] = useState<Box | null>(null);
  const ask = useAskByPicture();
  const picture = () => frame.current?.querySelector("img") ?? null;

  function at(event: React.PointerEvent) {
    const own = picture()!.getBoundingClientRect();
    const within = (value: number, most: number) => Math.min(Math.max(value, 0), most);
    return { x: within(event.clientX - own.left, own.width), y: within(event.clientY - own.top, own.height) };
  }

  function cut(part: Box | null) {
    const shown = picture();
    if (!shown) return;
    const own = shown.getBoundingClientRect();
    const scale = shown.naturalWidth / own.width;
    const from = part ?? { left: 0, top: 0, right: own.width, bottom: own.height };
    const sheet = document.createElement("canvas");
    sheet.width = Math.max(1, Math.round((from.right - from.left) * scale));
    sheet.height = Math.max(1, Math.round((from.bottom - from.top) * scale));
    sheet
      .getContext("2d")!
      .drawImage(
        shown,
        from.left * scale,
        from.top * scale,
        sheet.width,
        sheet.height,
        0,
        0,
        sheet.width,
        sheet.height,
      );
    sheet.toBlob((data) => {
      if (data)
        ask.mutate({ file: new File([data], "cut.png", { type: "image/png" }), words: "", stage: "fused" });
    }, "image/png");
  }

  return (
    <span
      ref={frame}
      className="cut-out"
      onPointerDown={(event) => {
        if (event.button !== 0 || !(event.target instanceof HTMLImageElement)) return;
        event.preventDefault();
        event.currentTarget.setPointerCapture(event.pointerId);
        setBegun(at(event));
        setBox(null);
      }}
      onPointerMove={(event) => begun && setBox(boxOf(begun, at(event)))}
      onPointerUp={() => {
        setBegun(null);
        setBox((now) => (now && now.right - now.left >= LEAST && now.bottom - now.top >= LEAST ? now : null));
      }}
    >
      {children}
      {over}
      {box && (
        <span
          className="cut"
          style={{
            left: box.left,
            top: box.top,
            width: box.right - box.left,
            height: box.bottom - box.top,
          }}
        />
      )}
      <span className="ask-by" style={box ? under(box, picture()) : undefined}>
        {beside?.(box && shares(box, picture()))}
        <Button
          size="sm"
          variant="light"
          disabled={ask.isPending}
          title="Drag over the picture to cut out a part first"
          onClick={() => cut(box)}
        >
          {box ? "Ask by this part" : "Ask by it"}
        </Button>
      </span>
    </span>
  );
}
