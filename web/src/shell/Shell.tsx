import { SunMoon } from "lucide-react";
import { NavLink, Outlet } from "react-router";
import { session } from "../state/session";
import { furnished } from "./furnished";
import { ShortcutSheet } from "./ShortcutSheet";
import { toggleTheme } from "./theme-choice";
import "./plain-button.css";
import "./shell.css";

/** Only where people sign in. */
const Account = furnished(async () => (await import("./Account")).Account);

const VIEWS = [
  { to: "/", name: "Bench" },
  { to: "/pipelines", name: "Pipelines" },
  { to: "/datasets", name: "Datasets" },
  { to: "/editions", name: "Editions" },
  { to: "/trials", name: "Trials" },
];

/** The frame of every view: the name, the views, and what belongs to all of them. */
export function Shell() {
  return (
    <div className="shell">
      <header className="shell-header">
        <p className="shell-name">Varlen</p>
        <nav className="shell-views" aria-label="Views">
          {VIEWS.map(({ to, name }) => (
            <NavLink key={to} to={to} end={to === "/"}>
              {name}
            </NavLink>
          ))}
        </nav>
        {/* Each view puts its own title and tools here. */}
        <div id="view-tools" className="shell-tools" />
        <div className="shell-common">
          <a href="/help/" target="_blank" rel="noopener">
            Help
          </a>
          <button type="button" className="plain-button" data-icon aria-label="Light or dark" title="Light or dark" onClick={toggleTheme}>
            <SunMoon size={16} />
          </button>
          <ShortcutSheet />
          {session.sign_in && <Account />}
        </div>
      </header>
      <main className="shell-main">
        <Outlet />
      </main>
    </div>
  );
}
