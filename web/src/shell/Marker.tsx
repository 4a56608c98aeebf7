// Each stage has a shape of its own, so that nothing depends on colour alone.
const SHAPES: Record<string, string> = {
  documents: "M3 1h7l3 3v11H3z",
  chunks: "M1 2h14v3H1zM1 7h14v3H1zM1 12h9v3H1z",
  sparse: "M2 2h12v12H2z",
  dense: "M8 1.5a6.5 6.5 0 1 1 0 13 6.5 6.5 0 0 1 0-13z",
  fused: "M8 .5 15.500 8 8 15.500 .5 8z",
  reranked: "M8 1.500 15.500 14.500H.5z",
  context: "M5 1h6v4h4v6h-4v4H5v-4H1V5h4z",
};

export function markerPath(kind: string): string {
  return SHAPES[kind] ?? SHAPES.dense!;
}

export function Marker({ kind, tone, size = 11 }: { kind: string; tone?: string; size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 16 16" aria-hidden="true" style={{ flex: "none" }}>
      <path d={markerPath(kind)} fill={tone ?? `var(--${kind})`} />
    </svg>
  );
}
