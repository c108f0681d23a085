//! The ladder as a picture.

use std::fmt::Write as _;

use uspan_core::{Message, Rehearsal, Step, escaped};

use super::ladder::{fails_at, message_words, number_of, payload_lines};
use super::{ShownEnds, wrapped};

const WIDTH: usize = 1000;
/// Where the two lines down stand.
const LINES: [usize; 2] = [90, 910];
const INK: &str = "#222222";
const FAINT: &str = "#6b6b6b";
const WRONG: &str = "#b3261e";
/// Characters of small print that fit between the lines.
const FIT: usize = 118;
const ROW: usize = 16;

/// Draws a rehearsal; the same bytes for the same rehearsal.
pub fn draw(rehearsal: &Rehearsal, shown: &ShownEnds<'_>) -> String {
    let mut body = String::new();
    let mut y = 104;
    for (i, step) in rehearsal.steps.iter().enumerate() {
        match step {
            Step::Message(message) => {
                arrow(&mut body, message, number_of(rehearsal, i), fails_at(rehearsal, i), &mut y);
            }
            Step::Thought { end, text } => {
                let (x, anchor) = if *end == 0 { (LINES[0] + 14, "start") } else { (LINES[1] - 14, "end") };
                let _ = writeln!(body, r#"<circle cx="{}" cy="{}" r="4" fill="{INK}"/>"#, LINES[*end], y + 6);
                for line in wrapped(text, FIT) {
                    words(&mut body, x, y + 10, anchor, FAINT, 12, &line);
                    y += ROW;
                }
                y += 10;
            }
        }
    }
    let foot = y + 6;
    let mut below = foot + 30;
    let mut end = String::new();
    for opened in &rehearsal.opened {
        let pairs: Vec<_> = opened.selectors[rehearsal.initiator].iter().map(|(from, to)| format!("{from} to {to}")).collect();
        let text = format!("Comes up: {} with {}: {}", opened.names[rehearsal.initiator], opened.protection, pairs.join(", "));
        for line in wrapped(&text, FIT + 12) {
            words(&mut end, LINES[0], below, "start", INK, 13, &line);
            below += 18;
        }
    }
    for failure in &rehearsal.failures {
        let notify = failure.notify.map_or_else(String::new, |notify| format!(" ({notify})"));
        let text = format!("Fails at message {}{notify}: {}", number_of(rehearsal, failure.step), failure.reason);
        for line in wrapped(&text, FIT + 12) {
            words(&mut end, LINES[0], below, "start", WRONG, 13, &line);
            below += 18;
        }
    }
    let height = below + 14;
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {height}\" width=\"{WIDTH}\" height=\"{height}\" \
         font-family=\"'DejaVu Sans', 'Noto Sans', sans-serif\">\n<title>{} and {}</title>\n\
         <rect width=\"{WIDTH}\" height=\"{height}\" fill=\"#fcfaf7\"/>\n",
        escaped(shown.names[0]),
        escaped(shown.names[1])
    );
    for side in [0, 1] {
        let (x, anchor) = if side == 0 { (40, "start") } else { (WIDTH - 40, "end") };
        words(&mut svg, x, 34, anchor, INK, 18, shown.names[side]);
        let address = shown.addresses[side].map(|address| format!(", {address}")).unwrap_or_default();
        words(&mut svg, x, 54, anchor, FAINT, 12, &format!("{}{address}", shown.titles[side]));
        let role = if side == rehearsal.initiator { "opens" } else { "answers" };
        words(&mut svg, x, 72, anchor, FAINT, 12, role);
        let _ = writeln!(svg, r#"<line x1="{0}" y1="84" x2="{0}" y2="{foot}" stroke="{INK}" stroke-width="1.5"/>"#, LINES[side]);
    }
    svg.push_str(&body);
    svg.push_str(&end);
    svg.push_str("</svg>\n");
    svg
}

fn arrow(body: &mut String, message: &Message, number: usize, fatal: bool, y: &mut usize) {
    let colour = if fatal { WRONG } else { INK };
    let rightwards = message.from == 0;
    let (x, anchor) = if rightwards { (LINES[0] + 14, "start") } else { (LINES[1] - 14, "end") };
    words(body, LINES[0] - 14, *y + 10, "end", FAINT, 12, &number.to_string());
    words(body, x, *y + 10, anchor, colour, 14, &message_words(message));
    *y += 18;
    for line in payload_lines(message, FIT) {
        words(body, x, *y + 8, anchor, if fatal { WRONG } else { FAINT }, 12, &line.replace("   ", "  ·  "));
        *y += ROW;
    }
    let at = *y + 6;
    let (from, to) = if rightwards { (LINES[0], LINES[1]) } else { (LINES[1], LINES[0]) };
    let tip = if message.arrives { to } else { (from + 2 * to) / 3 };
    let dashes = if message.arrives { "" } else { r#" stroke-dasharray="6 4""# };
    let _ = writeln!(body, r#"<line x1="{from}" y1="{at}" x2="{tip}" y2="{at}" stroke="{colour}" stroke-width="1.5"{dashes}/>"#);
    if message.arrives {
        let back = if rightwards { tip - 10 } else { tip + 10 };
        let _ = writeln!(body, r#"<polygon points="{tip},{at} {back},{} {back},{}" fill="{colour}"/>"#, at - 5, at + 5);
    } else {
        words(body, tip, at + 5, "middle", WRONG, 16, "✗");
    }
    *y += 24;
}

fn words(svg: &mut String, x: usize, y: usize, anchor: &str, colour: &str, size: usize, text: &str) {
    let _ = writeln!(svg, r#"<text x="{x}" y="{y}" text-anchor="{anchor}" font-size="{size}" fill="{colour}">{}</text>"#, escaped(text));
}
