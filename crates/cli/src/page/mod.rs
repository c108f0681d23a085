//! Pages: one file each, with nothing from elsewhere and no script.

pub mod report;
pub mod sheet;

use maud::{DOCTYPE, Markup, PreEscaped, html};
use uspan_core::lines_written_out;

/// How a page looks: calm, dense, readable in light, in dark and in print, and without colour.
const STYLE: &str = "
:root{--ground:#fcfaf7;--panel:#f4efe7;--ink:#1f1d1a;--faint:#5a564f;--line:#d9d1c3;--accent:#7a4a12;--stop:#9c1c13;--mark:#fbe8c8}
@media(prefers-color-scheme:dark){:root{--ground:#1b1a18;--panel:#26241f;--ink:#f0ece4;--faint:#b8b1a5;--line:#454139;--accent:#e5ae66;--stop:#ff9d92;--mark:#4a3a1c}}
@media print{:root{--ground:#fff;--panel:#fff;--ink:#000;--faint:#000;--line:#999;--accent:#000;--stop:#000;--mark:#eee}}
*{box-sizing:border-box}
html{scroll-padding-top:1rem}
body{margin:0;background:var(--ground);color:var(--ink);font:16px/1.5 'DejaVu Sans','Noto Sans',sans-serif}
main{max-width:76rem;margin:0 auto;padding:1.5rem 1rem 4rem}
h1{font-size:1.6rem;line-height:1.25;margin:.2rem 0 .6rem}
h2{font-size:1.3rem;margin:2.6rem 0 .6rem;padding-top:.6rem;border-top:2px solid var(--line)}
h3{font-size:1.05rem;margin:1.8rem 0 .5rem}
p{max-width:48rem;margin:.5rem 0}
a{color:var(--accent);text-decoration-thickness:1px;text-underline-offset:2px}
a:focus-visible,summary:focus-visible,.wide:focus-visible{outline:3px solid var(--accent);outline-offset:2px}
.skip{position:absolute;left:-60rem}.skip:focus{left:1rem;top:1rem;background:var(--panel);padding:.5rem 1rem}
nav ul{list-style:none;margin:0;padding:0;display:flex;flex-wrap:wrap;gap:.3rem 1.2rem}
.wide{overflow-x:auto;max-width:100%}
table{border-collapse:collapse;width:100%;font-size:.9rem}
caption{text-align:left;color:var(--faint);padding:.2rem 0}
th,td{text-align:left;vertical-align:top;padding:.35rem .7rem .35rem 0;border-bottom:1px solid var(--line);overflow-wrap:anywhere}
th{font-weight:600}
th[scope=row]{min-width:9.5rem;overflow-wrap:normal;font-weight:400;color:var(--faint)}
thead th,thead td{border-bottom:2px solid var(--line)}
td.agreed{min-width:15rem}
td.spelled{min-width:13rem}
td.why{min-width:9rem}
td.by{min-width:20rem}
td.blank{min-width:16rem;border-bottom:1px solid var(--faint)}
td p{margin:0}
.faint{color:var(--faint)}
.stop{color:var(--stop);font-weight:600}
code,pre,kbd{font-family:'DejaVu Sans Mono','Noto Sans Mono',monospace;font-size:.85rem}
code{overflow-wrap:anywhere}
pre.file{margin:0;padding:.6rem 0;background:var(--panel);border:1px solid var(--line);overflow-x:auto;line-height:1.45}
pre.file span.line{display:block;padding:0 .8rem}
pre.file span.line:target{background:var(--mark);outline:1px solid var(--accent)}
pre.file .no{display:inline-block;min-width:2.6em;text-align:right;padding-right:1em;color:var(--faint);user-select:none}
pre.file a.no{text-decoration:underline}
pre.file .remark{color:var(--faint)}
pre.file .refs{margin-left:2em}
details{margin:.6rem 0}
summary{cursor:pointer;padding:.2rem 0}
figure{margin:1rem 0}
figure svg{max-width:100%;height:auto;display:block}
ol.hops{list-style:none;padding:0;margin:.4rem 0}
ol.hops li{display:grid;grid-template-columns:7.5rem 7rem 1fr;gap:.2rem .8rem;padding:.3rem 0;border-bottom:1px solid var(--line);font-size:.9rem}
ol.hops li>*{min-width:0;overflow-wrap:anywhere}
@media(max-width:44rem){ol.hops li{grid-template-columns:1fr 1fr}ol.hops li>:last-child{grid-column:1/-1}}
@media print{nav,.skip{display:none}details>*{display:block}h2{break-before:page}tr,li{break-inside:avoid}a{color:inherit}}
";

/// A page around its content.
pub fn shell(title: &str, content: &Markup) -> String {
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width,initial-scale=1";
                // Nothing is fetched, whatever stands in the texts.
                meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'; img-src data:";
                link rel="icon" href="data:,";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                a class="skip" href="#content" { "To the content" }
                main id="content" { (content) }
            }
        }
    }
    .into_string();
    // Characters that HTML has no way to say, or that turn the order of reading, stand there in words.
    lines_written_out(&page).into_owned()
}

/// A text in which what stands between backticks is what a machine says.
pub fn ticked(text: &str) -> Markup {
    html! { @for (i, part) in text.split('`').enumerate() { @if i % 2 == 1 { code { (part) } } @else { (part) } } }
}

/// A table that can be scrolled where it is too wide, by keyboard too.
pub fn wide(label: &str, table: &Markup) -> Markup {
    html! { div class="wide" tabindex="0" role="region" aria-label=(label) { (table) } }
}
