//! The report of a description: everything about its tunnels on one page, linked from line to line.

use maud::{Markup, PreEscaped, html};
use uspan_core::{
    Build, BuiltTunnel, Description, Finding, Hop, Leg, Origins, Place, Rehearsal, Severity, Sheet, Source, Spot, Steps, Tree, Walk,
};

use super::sheet::sheet;
use super::{shell, ticked, wide};

/// A tunnel, and everything that was found out about it.
pub struct ReportTunnel<'a> {
    pub built: &'a BuiltTunnel,
    pub picture: Option<String>,
    pub sheet: Option<Sheet>,
    pub rehearsal: Option<(Rehearsal, String)>,
    pub walks: Vec<ReportWalk>,
    pub steps: Option<Steps>,
    /// On whose doing the verdicts rest besides ours.
    pub provided: String,
}

/// A packet that was followed there and back.
pub struct ReportWalk {
    pub title: String,
    pub walk: Walk,
    /// The gateway of others at which it ends, where nobody here knows what becomes of it.
    pub hidden: Option<String>,
}

/// The files of a site, and where their lines come from.
pub struct SiteFiles<'a> {
    pub name: &'a str,
    pub tree: &'a Tree,
    pub origins: Origins,
}

/// A description with everything about it.
pub struct Report<'a> {
    pub description: &'a Description,
    /// The same text under the path by which it was found, as the findings name it.
    pub source: &'a Source,
    pub planned: &'a Build,
    pub sites: Vec<SiteFiles<'a>>,
    pub tunnels: Vec<ReportTunnel<'a>>,
}

/// A name that can stand in an address within the page.
fn anchor(parts: &[&str]) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' };
    parts.iter().map(|part| part.chars().map(plain).collect::<String>()).collect::<Vec<_>>().join("--")
}

impl Report<'_> {
    /// The page.
    pub fn page(&self) -> String {
        let title = format!("Report on {}", file_name(self.description.source.name()));
        shell(
            &title,
            &html! {
                h1 { (title) }
                (self.summary())
                (self.contents())
                @for told in &self.tunnels { (self.tunnel(told)) }
                h2 id="files" { "The files" }
                @for site in &self.sites { (self.files(site)) }
                h2 id="description" { "The description" }
                p { "A line number leads to the first line of a configuration that follows from the line; the links behind a line to all of them." }
                (self.described())
            },
        )
    }

    fn summary(&self) -> Markup {
        let count = self.tunnels.len();
        let found = &self.planned.findings;
        html! {
            p {
                @if count == 1 { "One tunnel" } @else { (count) " tunnels" }
                " between " (self.sites.len()) " sites. Written, read back, held against each other and rehearsed before this page was made."
            }
            @if !found.is_empty() {
                h2 id="findings" { "Findings" }
                ul { @for finding in found { li { (self.finding(finding)) } } }
            }
        }
    }

    fn finding(&self, finding: &Finding) -> Markup {
        let source = self.source;
        let line =
            finding.place.as_ref().filter(|place| *place.file == **source.name()).map(|place| source.position(place.span.start).line);
        let word = match finding.rule.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
            _ => "note",
        };
        html! {
            strong { (word) " " (finding.rule.code) } ": " (finding.message) ". " (finding.remedy) " "
            @if let Some(line) = line { a href={ "#" (anchor(&["d", &line.to_string()])) } { "line " (line) } }
        }
    }

    fn contents(&self) -> Markup {
        html! {
            nav aria-label="On this page" {
                ul {
                    @for told in &self.tunnels { li { a href={ "#" (anchor(&["t", &told.built.name])) } { (told.built.name) } } }
                    li { a href="#files" { "Files" } }
                    li { a href="#description" { "Description" } }
                }
            }
        }
    }

    fn tunnel(&self, told: &ReportTunnel<'_>) -> Markup {
        let [one, other] = &told.built.ends;
        html! {
            h2 id=(anchor(&["t", &told.built.name])) { (told.built.name) ": " (one) " ⇄ " (other) }
            @if let Some(picture) = &told.picture { figure { (PreEscaped(picture)) } }
            @if let Some(of) = &told.sheet { (sheet(of, &|end, place| self.leads(&told.built.ends[end], place))) }
            @if let Some((rehearsal, ladder)) = &told.rehearsal {
                h3 { "The negotiation, rehearsed" }
                p { @if rehearsal.works() { "It comes up and gets new keys" (told.provided) "." } @else { span class="stop" { "It fails." } } }
                details { summary { "Message by message" } figure { (PreEscaped(ladder)) } }
            }
            @for walked in &told.walks {
                h3 { (walked.title) }
                (self.walk(walked, told))
            }
            @if let Some(steps) = &told.steps { (after(steps)) }
        }
    }

    /// Where a line of a site's file is on the page, and how it is called.
    fn leads(&self, site: &str, place: &Place) -> (Option<String>, String) {
        let file = self.sites.iter().find(|files| files.name == site).and_then(|files| files.tree.files.get(&*place.file));
        let Some(file) = file else { return (None, place.file.to_string()) };
        let line = Source::new(place.file.to_string(), file.text.as_str()).position(place.span.start).line;
        let called = format!("{}:{line}", place.file);
        ((!file.private).then(|| format!("#{}", anchor(&["f", site, &place.file, &line.to_string()]))), called)
    }

    fn walk(&self, ReportWalk { walk, hidden, .. }: &ReportWalk, told: &ReportTunnel<'_>) -> Markup {
        let ends = &told.built.ends;
        html! {
            p {
                @if walk.works() {
                    "It arrives, and the answer comes back" (told.provided) "."
                } @else if let Some(name) = hidden {
                    span class="stop" { "It cannot be said whether it arrives: what " (name) " routes, translates and filters nobody here knows." }
                } @else {
                    span class="stop" { "It does not arrive, or its answer does not come back." }
                }
            }
            (self.leg(&walk.there, ends))
            @if let Some(back) = &walk.back {
                p { "And the answer:" }
                (self.leg(back, ends))
            }
        }
    }

    fn leg(&self, leg: &Leg, ends: &[String; 2]) -> Markup {
        html! { ol class="hops" { @for hop in &leg.hops { li { (self.hop(hop, ends)) } } } }
    }

    fn hop(&self, hop: &Hop, ends: &[String; 2]) -> Markup {
        let (spot, site) = match hop.spot {
            Spot::Gateway(end) => (ends[end].as_str(), Some(ends[end].as_str())),
            Spot::Internet => ("internet", None),
        };
        html! {
            span { (spot) }
            span class="faint" { (hop.aspect.word()) }
            div {
                @if hop.passes && !hop.open { (hop.says) } @else if hop.passes { "perhaps: " (hop.says) } @else { span class="stop" { "stops: " (hop.says) } }
                @if let (Some((place, spelling)), Some(site)) = (&hop.decided, site) {
                    @let (to, at) = self.leads(site, place);
                    div class="faint" {
                        @if let Some(to) = to { a href=(to) { (at) } } @else { (at) }
                        @if let Some(spelling) = spelling { " " code { (spelling) } }
                    }
                }
                @if let Some(remedy) = &hop.remedy { div { "→ " (remedy) } }
            }
        }
    }

    /// A site's files, each line with its number, which leads to the line of the description that it follows from.
    fn files(&self, site: &SiteFiles<'_>) -> Markup {
        html! {
            h3 { (site.name) }
            @for (path, file) in &site.tree.files {
                @if file.private {
                    p { code { (path) } " " span class="faint" { "holds a secret, mode 0600: not shown" } }
                } @else {
                    details open {
                        summary { code { (path) } }
                        div class="wide" tabindex="0" role="region" aria-label=(path) { pre class="file" {
                            @for (number, line) in file.text.lines().enumerate() {
                                @let number = number + 1;
                                @let from = site.origins.files.get(path).and_then(|lines| lines.get(&number));
                                span class="line" id=(anchor(&["f", site.name, path, &number.to_string()])) {
                                    @if let Some(first) = from.and_then(|from| from.first()) {
                                        a class="no" href={ "#" (anchor(&["d", &first.to_string()])) } aria-label={ "line " (number) ", from line " (first) " of the description" } { (number) }
                                    } @else { span class="no" { (number) } }
                                    @if line.trim_start().starts_with('#') { span class="remark" { (line) } } @else { (line) }
                                }
                            }
                        } }
                    }
                }
            }
        }
    }

    /// The description, each line with links to the lines that follow from it.
    fn described(&self) -> Markup {
        html! {
            div class="wide" tabindex="0" role="region" aria-label="The description" { pre class="file" {
                @for (number, line) in self.description.source.text().lines().enumerate() {
                    @let number = number + 1;
                    @let following = self.following(number);
                    span class="line" id=(anchor(&["d", &number.to_string()])) {
                        @if let Some((_, to)) = following.first() {
                            a class="no" href=(to) aria-label={ "line " (number) ", to the first line that follows from it" } { (number) }
                        } @else { span class="no" { (number) } }
                        @if line.trim_start().starts_with('#') { span class="remark" { (line) } } @else { (line) }
                        @if !following.is_empty() {
                            span class="refs" { @for (called, to) in &following { " " a href=(to) { (called) } } }
                        }
                    }
                }
            } }
        }
    }

    /// The lines of configurations that follow from a line: of each file the first.
    fn following(&self, line: usize) -> Vec<(String, String)> {
        let mut found = Vec::new();
        for site in &self.sites {
            let mut last = "";
            for (file, at) in site.origins.following(line) {
                if std::mem::replace(&mut last, file) != file {
                    let called = format!("{} {}:{at}", site.name, file_name(file));
                    found.push((called, format!("#{}", anchor(&["f", site.name, file, &at.to_string()]))));
                }
            }
        }
        found
    }
}

fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// What to look at after installing.
fn after(steps: &Steps) -> Markup {
    html! {
        h3 { "After installing" }
        @for (end, looks) in steps.looks.iter().enumerate().filter(|(_, looks)| !looks.is_empty()) {
            (wide(&format!("Steps on {}", steps.ends[end]), &html! {
                table {
                    caption { "On " (steps.ends[end]) ", in this order" }
                    thead { tr { th scope="col" { "look at" } th scope="col" { "by" } th scope="col" { "when all is well" } } }
                    tbody { @for step in looks { tr { td { (step.what) } td class="by" { code { (step.command) } } td { (ticked(&step.good)) } } } }
                }
            }))
        }
        (wide("When something else is seen", &html! {
            table {
                caption { "When something else is seen" }
                thead { tr { th scope="col" { "what you see" } th scope="col" { "what it means" } th scope="col" { "what to change" } } }
                tbody { @for symptom in &steps.symptoms { tr { td { (ticked(&symptom.sees)) } td { (ticked(&symptom.means)) } td { (ticked(&symptom.change)) } } } }
            }
        }))
    }
}
