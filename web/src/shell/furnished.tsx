import { type ComponentType, lazy, memo, Suspense } from "react";

let first: Promise<unknown> = Promise.resolve();

/** Hold the component library back until what comes first is there: it takes longer to begin than all of that. */
export function furnishAfter(there: Promise<unknown>): void {
  first = there;
}

/** A part of a page, with what components of the library need around it. */
async function load<P extends object>(part: () => Promise<ComponentType<P>>): Promise<ComponentType<P>> {
  await first;
  const [{ Furnished }, Part] = await Promise.all([import("./component-library"), part()]);
  return (props) => (
    <Furnished>
      <Part {...props} />
    </Furnished>
  );
}

/** A part of a page that is loaded, with the component library, when it is first shown; nothing stands in its place until then. */
export function furnished<P extends object>(part: () => Promise<ComponentType<P>>): ComponentType<P> {
  const Part = lazy(async () => ({ default: await load(part) }));
  // What stays as it is costs nothing, not even what is around it.
  return memo((props: P) => (
    <Suspense>
      <Part {...props} />
    </Suspense>
  ));
}

/** The same for a view, which the router waits for. */
export const furnishedView = async (view: () => Promise<ComponentType>) => ({ Component: await load(view) });
