/** What a choice of edges does outside the picture: a stroke runs out of a small frame and goes on as it would. */
export function EdgePicture({ edges }: { edges: string }) {
  const stroke = { fill: "none", stroke: "currentColor", strokeWidth: 1.5 };
  return (
    <svg width={30} height={20} viewBox="0 0 30 20" aria-hidden="true">
      {edges === "solid" && <path d="M0 0H30V20H0ZM9 5V15H21V5Z" fill="currentColor" fillRule="evenodd" opacity={0.35} />}
      {edges === "extend" && <path d="M21 5H30M0 15H9" {...stroke} opacity={0.55} />}
      {edges === "mirror" && <path d="M21 5L30 12.5M9 15L0 7.5" {...stroke} opacity={0.55} />}
      {edges === "wrap" && <path d="M21 15L30 7.5M9 5L0 12.5" {...stroke} opacity={0.55} />}
      <path d="M9 15L21 5" {...stroke} />
      <rect x={9} y={5} width={12} height={10} {...stroke} strokeWidth={1} opacity={0.8} />
    </svg>
  );
}
