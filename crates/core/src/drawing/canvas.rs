//! What is drawn on: boxes, lines and texts, each remembered with its place, so that tests can see whether anything overlaps.

use std::fmt::Write as _;

use uspan_model::digest::digest;
use uspan_model::source::shown;

/// A rectangle.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rect {
    /// Its left edge.
    pub x: f64,
    /// Its upper edge.
    pub y: f64,
    /// How wide it is.
    pub width: f64,
    /// How high it is.
    pub height: f64,
}

impl Rect {
    pub(super) fn around(middle: Point, width: f64, height: f64) -> Rect {
        Rect { x: middle.x - width / 2.0, y: middle.y - height / 2.0, width, height }
    }

    pub(super) fn middle(&self) -> Point {
        Point { x: self.x + self.width / 2.0, y: self.y + self.height / 2.0 }
    }

    /// The same with a margin around it.
    pub(super) fn grown(&self, by: f64) -> Rect {
        Rect { x: self.x - by, y: self.y - by, width: self.width + 2.0 * by, height: self.height + 2.0 * by }
    }

    /// Whether the two have more than an edge in common.
    pub fn overlaps(&self, other: &Rect) -> bool {
        self.x < other.x + other.width && other.x < self.x + self.width && self.y < other.y + other.height && other.y < self.y + self.height
    }

    /// Whether a point is inside.
    fn has(&self, point: Point) -> bool {
        (self.x..=self.x + self.width).contains(&point.x) && (self.y..=self.y + self.height).contains(&point.y)
    }

    /// Where a line from its middle to a point outside leaves it.
    pub(super) fn edge_towards(&self, point: Point) -> Point {
        let middle = self.middle();
        let (dx, dy) = (point.x - middle.x, point.y - middle.y);
        if self.has(point) || (dx == 0.0 && dy == 0.0) {
            return middle;
        }
        let across = if dx == 0.0 { f64::INFINITY } else { self.width / 2.0 / dx.abs() };
        let along = if dy == 0.0 { f64::INFINITY } else { self.height / 2.0 / dy.abs() };
        let part = across.min(along);
        Point { x: middle.x + dx * part, y: middle.y + dy * part }
    }
}

/// A point.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// From the left.
    pub x: f64,
    /// From above.
    pub y: f64,
}

/// A line that stands for a tunnel.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Link {
    /// Where it begins.
    pub from: Point,
    /// Where it ends.
    pub to: Point,
}

impl Link {
    /// Whether two lines cross; those that begin or end at the same place do not.
    pub fn crosses(&self, other: &Link) -> bool {
        let side = |a: Point, b: Point, c: Point| (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x);
        let apart = |one: f64, other: f64| one * other < -1e-6;
        apart(side(self.from, self.to, other.from), side(self.from, self.to, other.to))
            && apart(side(other.from, other.to, self.from), side(other.from, other.to, self.to))
    }

    /// Whether it runs through a rectangle.
    pub fn meets(&self, rect: &Rect) -> bool {
        const STEPS: u32 = 200;
        (1..STEPS).any(|step| rect.has(self.at(f64::from(step) / f64::from(STEPS))))
    }

    /// The point at a part of its length.
    pub(super) fn at(&self, part: f64) -> Point {
        Point { x: self.from.x + (self.to.x - self.from.x) * part, y: self.from.y + (self.to.y - self.from.y) * part }
    }
}

/// How a text stands at its point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Anchor {
    Start,
    Middle,
    End,
}

/// A picture.
#[derive(Clone, Debug)]
pub struct Drawing {
    /// As SVG 1.1.
    pub svg: String,
    /// Where its texts stand.
    pub labels: Vec<(String, Rect)>,
    /// The boxes of sites.
    pub boxes: Vec<Rect>,
    /// The lines of tunnels.
    pub links: Vec<Link>,
}

/// How it looks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Theme {
    /// As whoever looks at it has set it; light where nothing is set, black on white in print.
    #[default]
    Auto,
    /// On a light ground.
    Light,
    /// On a dark ground.
    Dark,
}

/// Colours by what they are for: each can be told apart without it being seen in colour, too.
struct Palette {
    ground: &'static str,
    panel: &'static str,
    ink: &'static str,
    faint: &'static str,
    line: &'static str,
}

const LIGHT: Palette = Palette { ground: "#fcfaf7", panel: "#f1ece3", ink: "#1f1d1a", faint: "#5a564f", line: "#7a4a12" };
const DARK: Palette = Palette { ground: "#1b1a18", panel: "#2a2824", ink: "#f0ece4", faint: "#b3ada2", line: "#e0a458" };
const PRINT: Palette = Palette { ground: "#ffffff", panel: "#ffffff", ink: "#000000", faint: "#000000", line: "#000000" };

impl Palette {
    fn rules(&self) -> String {
        format!(
            ".span-ground{{fill:{}}}.span-panel{{fill:{};stroke:{}}}.span-ink{{fill:{}}}.span-faint{{fill:{}}}.span-wire{{stroke:{};fill:none}}.span-tunnel{{stroke:{};fill:none}}.span-mark{{fill:{};stroke:{}}}",
            self.ground, self.panel, self.faint, self.ink, self.faint, self.faint, self.line, self.ground, self.line
        )
    }
}

impl Theme {
    fn style(self) -> String {
        match self {
            Theme::Light => LIGHT.rules(),
            Theme::Dark => DARK.rules(),
            Theme::Auto => {
                format!("{}@media (prefers-color-scheme:dark){{{}}}@media print{{{}}}", LIGHT.rules(), DARK.rules(), PRINT.rules())
            }
        }
    }
}

pub(super) struct Canvas {
    body: String,
    labels: Vec<(String, Rect)>,
    boxes: Vec<Rect>,
    panels: Vec<Rect>,
    links: Vec<Link>,
}

/// A count as a length.
pub(super) fn number(count: usize) -> f64 {
    f64::from(u32::try_from(count).unwrap_or(u32::MAX))
}

/// Text that cannot become markup (XML 1.0 section 2.4), of characters that XML has (section 2.2).
pub fn escaped(text: &str) -> String {
    shown(text).replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// How wide a text is, in the widest of the usual fonts without serifs.
pub(super) fn text_width(text: &str, size: f64) -> f64 {
    let each = |c: char| match c {
        'i' | 'j' | 'l' | '.' | ',' | ':' | ';' | '\'' | '|' | ' ' | '(' | ')' | '/' | '-' | 'f' | 't' | 'r' => 0.40,
        'm' | 'w' | 'M' | 'W' | '@' | '⇄' | '…' => 1.0,
        c if c.is_ascii_uppercase() => 0.74,
        _ => 0.65,
    };
    text.chars().map(each).sum::<f64>() * size
}

impl Canvas {
    pub(super) fn new() -> Canvas {
        Canvas { body: String::new(), labels: Vec::new(), boxes: Vec::new(), panels: Vec::new(), links: Vec::new() }
    }

    /// A text; its point is on the line that it stands on.
    pub(super) fn text(&mut self, at: Point, anchor: Anchor, size: f64, class: &str, text: &str) {
        let (word, shift) = match anchor {
            Anchor::Start => ("start", 0.0),
            Anchor::Middle => ("middle", 0.5),
            Anchor::End => ("end", 1.0),
        };
        let width = text_width(text, size);
        let rect = Rect { x: at.x - width * shift, y: at.y - size * 0.8, width, height: size };
        self.labels.push((text.to_owned(), rect));
        let _ = writeln!(
            self.body,
            r#"<text x="{:.1}" y="{:.1}" text-anchor="{word}" font-size="{size}" class="span-{class}">{}</text>"#,
            at.x,
            at.y,
            escaped(text)
        );
    }

    pub(super) fn strong(&mut self, at: Point, anchor: Anchor, size: f64, text: &str) {
        let before = self.body.len();
        self.text(at, anchor, size, "ink", text);
        // Bold letters are a little wider.
        if let Some((_, rect)) = self.labels.last_mut() {
            rect.width *= 1.08;
        }
        let bold = self.body[before..].replacen("<text ", "<text font-weight=\"600\" ", 1);
        self.body.replace_range(before.., &bold);
    }

    pub(super) fn panel(&mut self, rect: Rect, round: f64, dashed: bool) {
        self.panels.push(rect);
        let dashes = if dashed { " stroke-dasharray=\"5 4\"" } else { "" };
        let _ = writeln!(
            self.body,
            r#"<rect x="{:.1}" y="{:.1}" width="{:.1}" height="{:.1}" rx="{round}" class="span-panel"{dashes}/>"#,
            rect.x, rect.y, rect.width, rect.height
        );
    }

    /// The box of a site.
    pub(super) fn site(&mut self, rect: Rect) {
        self.boxes.push(rect);
        self.panel(rect, 6.0, false);
    }

    pub(super) fn wire(&mut self, from: Point, to: Point) {
        let _ = writeln!(
            self.body,
            r#"<line x1="{:.1}" y1="{:.1}" x2="{:.1}" y2="{:.1}" class="span-wire" stroke-width="1.5"/>"#,
            from.x, from.y, to.x, to.y
        );
    }

    /// A tunnel, as far as it is seen; drawn all the way along a line of which boxes will cover the rest.
    pub(super) fn tunnel(&mut self, seen: Link, whole: Link) {
        self.links.push(seen);
        let link = whole;
        // Two lines side by side, so that it is one without its colour, too.
        let (dx, dy) = (link.to.x - link.from.x, link.to.y - link.from.y);
        let length = dx.hypot(dy).max(1.0);
        let (nx, ny) = (-dy / length * 2.2, dx / length * 2.2);
        for side in [-1.0, 1.0] {
            let _ = writeln!(
                self.body,
                r#"<line x1="{:.1}" y1="{:.1}" x2="{:.1}" y2="{:.1}" class="span-tunnel" stroke-width="1.6"/>"#,
                link.from.x + nx * side,
                link.from.y + ny * side,
                link.to.x + nx * side,
                link.to.y + ny * side
            );
        }
    }

    /// A small disc with a number in it.
    pub(super) fn mark(&mut self, at: Point, radius: f64, text: &str) {
        let _ = writeln!(self.body, r#"<circle cx="{:.1}" cy="{:.1}" r="{radius:.1}" class="span-mark" stroke-width="1.2"/>"#, at.x, at.y);
        self.text(Point { x: at.x, y: at.y + 4.0 }, Anchor::Middle, 11.0, "ink", text);
        // The disc is what must not be covered.
        if let Some((_, rect)) = self.labels.last_mut() {
            *rect = Rect::around(at, 2.0 * radius, 2.0 * radius);
        }
    }

    /// Whether a rectangle is free of texts and sites.
    pub(super) fn is_free(&self, rect: &Rect) -> bool {
        self.labels.iter().all(|(_, label)| !label.overlaps(rect)) && self.boxes.iter().all(|site| !site.overlaps(rect))
    }

    /// What is drawn, with this title, moved so that nothing is left of or above the edge.
    pub(super) fn finish(self, title: &str, described: &str, theme: Theme) -> Drawing {
        const EDGE: f64 = 24.0;
        let rects = || self.labels.iter().map(|(_, rect)| rect).chain(&self.panels);
        let left = rects().map(|rect| rect.x).fold(f64::INFINITY, f64::min) - EDGE;
        let top = rects().map(|rect| rect.y).fold(f64::INFINITY, f64::min) - EDGE;
        let right = rects().map(|rect| rect.x + rect.width).fold(f64::NEG_INFINITY, f64::max) + EDGE;
        let bottom = rects().map(|rect| rect.y + rect.height).fold(f64::NEG_INFINITY, f64::max) + EDGE;
        let (width, height) = ((right - left).ceil(), (bottom - top).ceil());
        // Several pictures can stand on one page.
        let id = format!("picture-{:08x}", digest(title));
        let svg = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"{left:.1} {top:.1} {width} {height}\" width=\"{width}\" height=\"{height}\" \
             role=\"img\" aria-labelledby=\"{id}-title {id}-about\" font-family=\"'DejaVu Sans', 'Noto Sans', sans-serif\">\n\
             <title id=\"{id}-title\">{}</title>\n<desc id=\"{id}-about\">{}</desc>\n<style>{}</style>\n\
             <rect x=\"{left:.1}\" y=\"{top:.1}\" width=\"{width}\" height=\"{height}\" class=\"span-ground\"/>\n{}</svg>\n",
            escaped(title),
            escaped(described),
            theme.style(),
            self.body
        );
        Drawing { svg, labels: self.labels, boxes: self.boxes, links: self.links }
    }
}
