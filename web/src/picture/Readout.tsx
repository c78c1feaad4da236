import { Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type PointerEvent, useRef, useState } from "react";
import { takeAt } from "../api/client";

interface Spot {
  x: number;
  y: number;
}

interface Found extends Spot {
  levels: number[];
  source?: { key: string; x: number; y: number; levels: number[] } | null;
}

/** The pointer must rest so long before a pixel is asked for. */
const REST_MS = 60;

/** Which pixel of a picture `width` × `height` px is pointed at; handlers for the element that shows all of it. */
export function usePointedAt(width: number, height: number) {
  const [spot, setSpot] = useState<Spot | null>(null);
  const timer = useRef(0);
  const onPointerMove = (event: PointerEvent<HTMLElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const x = Math.floor(((event.clientX - box.left) / box.width) * width);
    const y = Math.floor(((event.clientY - box.top) / box.height) * height);
    clearTimeout(timer.current);
    timer.current = window.setTimeout(() => setSpot(x >= 0 && y >= 0 && x < width && y < height ? { x, y } : null), REST_MS);
  };
  const onPointerLeave = () => {
    clearTimeout(timer.current);
    setSpot(null);
  };
  return { spot, onPointerMove, onPointerLeave };
}

/** Where the pointer is, px, and the pixel's values there; of a variant also the pixel it comes from. */
export function Readout({ address, spot }: { address: string; spot: Spot | null }) {
  const found = useQuery({
    queryKey: ["pixel", address, spot],
    queryFn: ({ signal }) => takeAt<Found>(`${address}?x=${spot?.x}&y=${spot?.y}`, signal),
    enabled: spot !== null,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (!spot) return <Text as="span" color="fg.muted" fontSize="small" aria-label="Pixel" />;
  const { source } = found.data ?? {};
  const { x, y } = found.data ?? spot; // while the next pixel is on its way, the last one with its own values
  return (
    <Text as="span" color="fg.muted" fontSize="small" whiteSpace="nowrap" fontVariantNumeric="tabular-nums" aria-label="Pixel">
      {x}, {y}
      {found.data && `: ${found.data.levels.join(" ")}`}
      {source && ` from ${source.key.split("/").at(-1)} ${source.x}, ${source.y}: ${source.levels.join(" ")}`}
      {source === null && ", blank area"}
    </Text>
  );
}
