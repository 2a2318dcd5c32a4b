//! The style sheet of the report: light and dark, wide and narrow, on screen and on paper.

/// All of it.
pub const SHEET: &str = r##"
:root { color-scheme: light dark; --page: #f6f7f8; --card: #fff; --ink: #1b1f24; --faint: #66707a; --line: #e3e7eb;
  --series: #2f6f9f; --odd: #c2410c; --band: #dce9f2; --good: #1b6e3c; --warning: #8a5a00; --bad: #b3261e;
  --warning-back: #fdf3dc; --bad-back: #fdeceb; }
@media screen and (prefers-color-scheme: dark) {
  :root { --page: #14181d; --card: #1c2229; --ink: #e6eaee; --faint: #98a3ae; --line: #333c46; --series: #6cb0e0;
    --odd: #ff9560; --band: #24384a; --good: #6fcf97; --warning: #f0c05a; --bad: #ff8f85; --warning-back: #3a2f14;
    --bad-back: #43201d; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--page); color: var(--ink); font: 15px/1.45 system-ui, sans-serif; }
main { max-width: 1240px; margin: 0 auto; padding: 20px 24px 60px; }
h1 { font-size: 24px; margin: 0; } h2 { font-size: 19px; margin: 36px 0 10px; } h3 { font-size: 15px; margin: 18px 0 6px; }
a { color: inherit; text-decoration-color: var(--faint); text-underline-offset: 3px; }
a:target, tr:target { background: var(--band); scroll-margin-top: 40vh; }
.faint { color: var(--faint); } .good { color: var(--good); } .warning { color: var(--warning); } .bad { color: var(--bad); }
.tiles { display: grid; grid-template-columns: repeat(auto-fit, minmax(150px, 1fr)); gap: 12px; margin: 18px 0; }
.tile { display: block; background: var(--card); border: 1px solid var(--line); border-radius: 10px; padding: 12px 16px;
  text-decoration: none; }
.tile b { display: block; font-size: 30px; line-height: 1.15; font-variant-numeric: tabular-nums; }
.tile.warning { background: var(--warning-back); border-color: transparent; }
.tile.bad { background: var(--bad-back); border-color: transparent; }
.card { background: var(--card); border: 1px solid var(--line); border-radius: 10px; padding: 12px 16px; margin: 12px 0; }
.want { border-left: 5px solid var(--warning); } .want.bad { border-left-color: var(--bad); color: var(--ink); }
.want p { margin: 4px 0; overflow-wrap: anywhere; }
code { font: 13px/1.4 ui-monospace, monospace; background: var(--page); padding: 2px 6px; border-radius: 5px; overflow-wrap: anywhere; }
.charts { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(100%, 270px), 1fr)); gap: 12px; }
figure { margin: 0; background: var(--card); border: 1px solid var(--line); border-radius: 10px; padding: 10px 8px 4px; }
figcaption { padding: 0 8px 2px; font-weight: 600; } figcaption span { font-weight: 400; color: var(--faint); }
figure svg { display: block; width: 100%; height: auto; }
figure svg text { font-family: system-ui, sans-serif; }
figure svg a circle:hover, figure svg a rect:hover { opacity: .6; }
figure svg [fill="#1B1F24"] { fill: var(--faint); } figure svg [stroke="#E3E7EB"] { stroke: var(--line); }
figure svg [fill="#2F6F9F"] { fill: var(--series); } figure svg [fill="#C2410C"] { fill: var(--odd); }
figure svg [fill="#DCE9F2"] { fill: var(--band); }
.scroll { overflow-x: auto; } table { border-collapse: collapse; width: 100%; font-size: 14px; }
th { text-align: left; font-weight: 600; color: var(--faint); } th, td { padding: 5px 12px 5px 0; border-bottom: 1px solid var(--line); vertical-align: top; }
td { white-space: nowrap; } td.path, td.wrap { white-space: normal; }
.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; } td.path { overflow-wrap: anywhere; min-width: 160px; }
svg.bar { display: block; margin-top: 7px; } svg.bar rect { fill: var(--odd); }
.multiples { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(100%, 190px), 1fr)); gap: 10px; margin: 10px 0; }
.multiple { background: var(--card); border: 1px solid var(--line); border-radius: 8px; padding: 8px 10px; overflow-wrap: anywhere; }
.multiple.odd { border-color: var(--odd); } .multiple p { margin: 4px 0 0; font-size: 13px; }
.multiple .line { display: flex; align-items: center; gap: 8px; font-size: 12px; } .multiple svg { flex: 1 1 auto; min-width: 0; height: 34px; }
.multiple .line span { flex: 0 0 auto; min-width: 74px; text-align: right; font-variant-numeric: tabular-nums; }
.multiple [stroke="#2F6F9F"] { stroke: var(--series); } .multiple [fill="#2F6F9F"] { fill: var(--series); }
.multiple.odd [stroke="#2F6F9F"] { stroke: var(--odd); } .multiple.odd [fill="#2F6F9F"] { fill: var(--odd); }
progress { width: 120px; accent-color: var(--series); } code { user-select: all; }
.lost { display: none; background: var(--bad-back); padding: 8px 24px; } .away .lost { display: block; }
:focus-visible { outline: 2px solid var(--series); outline-offset: 2px; }
details summary { cursor: pointer; margin: 10px 0; } nav a { margin-right: 14px; }
ol.drift { list-style: none; margin: 0; padding: 0 0 0 14px; border-left: 2px solid var(--line); }
ol.drift li { position: relative; margin: 8px 0; } ol.drift li::before { content: ""; position: absolute; left: -20px; top: 6px;
  width: 10px; height: 10px; border-radius: 50%; background: var(--series); } ol.drift li.warning::before { background: var(--odd); }
ol.drift li.warning { color: inherit; }
footer { margin-top: 40px; color: var(--faint); font-size: 13px; }
@media (max-width: 640px) { main { padding: 14px 12px 40px; } .tile b { font-size: 24px; } .tiles { grid-template-columns: 1fr 1fr; } }
@media print { :root { --page: #fff; } main { max-width: none; padding: 0; } figure, .card, .tile { break-inside: avoid; } nav { display: none; } }
"##;
