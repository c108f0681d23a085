//! One tunnel, with everything around it: networks, interfaces, gateways, the internet, and what may cross.

use super::canvas::{Anchor, Canvas, Drawing, Link, Point, Rect, Theme, number, text_width};
use super::{NetworkView, SiteView, TunnelView};

const WIDTH: f64 = 1180.0;
const TOP: f64 = 58.0;
/// A network's box.
const NET: (f64, f64) = (158.0, 46.0);
const NET_GAP: f64 = 14.0;
/// A gateway's box.
const GATEWAY: f64 = 176.0;

pub(super) fn draw(sites: &[SiteView], tunnel: &TunnelView, theme: Theme) -> Drawing {
    let mut canvas = Canvas::new();
    let [left, right] = tunnel.ends.map(|end| &sites[end]);
    canvas.strong(Point { x: WIDTH / 2.0, y: 32.0 }, Anchor::Middle, 19.0, &tunnel.name);
    let most = left.networks.len().max(right.networks.len()).max(2);
    let count = number(most);
    let height = (count * (NET.1 + NET_GAP) - NET_GAP).max(132.0);
    let middle = TOP + 40.0 + height / 2.0;
    for (end, site) in [left, right].into_iter().enumerate() {
        side(&mut canvas, site, end, middle, height, &tunnel.around[end]);
    }
    internet(&mut canvas, tunnel, middle, height);
    let below = TOP + height + 62.0;
    crossing(&mut canvas, [left, right], tunnel, below);
    let described = format!(
        "{} at {} and {} at {} over the internet; {} with {}; what may cross: {}",
        left.name,
        left.public,
        right.name,
        right.public,
        tunnel.version,
        tunnel.ciphers[1],
        tunnel.pairs.iter().map(|(near, far)| format!("{near} and {far}")).collect::<Vec<_>>().join(", ")
    );
    canvas.finish(&format!("{}: {} and {}", tunnel.name, left.name, right.name), &described, theme)
}

/// Mirrors a distance from the outer edge for the second end.
fn across(end: usize, x: f64) -> f64 {
    if end == 0 { x } else { WIDTH - x }
}

fn side(canvas: &mut Canvas, site: &SiteView, end: usize, middle: f64, height: f64, around: &[String; 2]) {
    let panel_width = NET.0 + GATEWAY + 110.0;
    let panel = Rect { x: across(end, 0.0) - if end == 0 { 0.0 } else { panel_width }, y: TOP, width: panel_width, height: height + 62.0 };
    canvas.panel(panel, 10.0, false);
    let (outer, inner) = if end == 0 { (Anchor::Start, Anchor::End) } else { (Anchor::End, Anchor::Start) };
    canvas.strong(Point { x: across(end, 16.0), y: TOP + 24.0 }, outer, 15.0, &site.name);
    let gateway = Rect::around(Point { x: across(end, NET.0 + 16.0 + 70.0 + GATEWAY / 2.0), y: middle }, GATEWAY, 124.0);
    // The networks, each with a wire to the gateway.
    let all = number(site.networks.len());
    let start = middle - (all * (NET.1 + NET_GAP) - NET_GAP) / 2.0;
    for (i, NetworkView { name, prefix, reached }) in site.networks.iter().enumerate() {
        let y = start + number(i) * (NET.1 + NET_GAP);
        let rect = Rect { x: across(end, 16.0) - if end == 0 { 0.0 } else { NET.0 }, y, width: NET.0, height: NET.1 };
        canvas.site(rect);
        let at = rect.middle();
        let lines = if *reached { [-4.0, 13.0] } else { [-10.0, 4.0] };
        canvas.text(Point { x: at.x, y: at.y + lines[0] }, Anchor::Middle, 13.0, "ink", name);
        canvas.text(Point { x: at.x, y: at.y + lines[1] }, Anchor::Middle, 12.0, "faint", prefix);
        if !*reached {
            canvas.text(Point { x: at.x, y: at.y + 18.0 }, Anchor::Middle, 11.0, "ink", "not reached");
        }
        let edge = if end == 0 { rect.x + rect.width } else { rect.x };
        let near = if end == 0 { gateway.x } else { gateway.x + gateway.width };
        canvas.wire(Point { x: edge, y: at.y }, Point { x: near, y: middle });
    }
    canvas.site(gateway);
    let at = gateway.middle();
    // The system that it is packaged for takes a line of its own.
    let (daemon, system) = site.platform.split_once(" (").unwrap_or((&site.platform, ""));
    let lines = [
        ("ink", 13.0, "gateway".to_owned()),
        ("faint", 11.0, daemon.to_owned()),
        ("faint", 11.0, system.trim_end_matches(')').to_owned()),
        ("ink", 12.0, around[0].clone()),
        ("ink", 12.0, around[1].clone()),
    ];
    for ((class, size, text), y) in lines.into_iter().zip([-42.0, -25.0, -11.0, 13.0, 33.0]).filter(|((_, _, text), _)| !text.is_empty()) {
        canvas.text(Point { x: at.x, y: at.y + y }, Anchor::Middle, size, class, &shortened(&text, size, GATEWAY - 12.0));
    }
    if let Some(own) = &site.own {
        canvas.text(Point { x: at.x, y: at.y + 53.0 }, Anchor::Middle, 11.0, "faint", &format!("itself {own}"));
    }
    // Inside and outside interfaces, at the edges that they are at.
    if !site.inside.is_empty() {
        let names = shortened(&site.inside.join(", "), 11.0, 64.0);
        let x = if end == 0 { gateway.x - 6.0 } else { gateway.x + gateway.width + 6.0 };
        canvas.text(Point { x, y: gateway.y + 8.0 }, inner, 11.0, "faint", &names);
    }
    let outside = format!("{} {}", site.outside, site.public).trim_start().to_owned();
    let x = if end == 0 { gateway.x + gateway.width } else { gateway.x };
    canvas.text(Point { x, y: gateway.y + gateway.height + 17.0 }, inner, 12.0, "ink", &outside);
}

/// A text that fits into a width, cut where it does not.
fn shortened(text: &str, size: f64, width: f64) -> String {
    if text_width(text, size) <= width {
        return text.to_owned();
    }
    let mut short = String::new();
    for c in text.chars() {
        if text_width(&format!("{short}{c}…"), size) > width {
            break;
        }
        short.push(c);
    }
    format!("{}…", short.trim_end())
}

/// Between the two: the internet, and the tunnel through it.
fn internet(canvas: &mut Canvas, tunnel: &TunnelView, middle: f64, height: f64) {
    let edge = NET.0 + GATEWAY + 110.0;
    let cloud = Rect { x: edge + 22.0, y: TOP, width: WIDTH - 2.0 * (edge + 22.0), height: height + 62.0 };
    canvas.panel(cloud, 40.0, true);
    let inner = NET.0 + 16.0 + 70.0 + GATEWAY;
    let link = Link { from: Point { x: inner, y: middle }, to: Point { x: WIDTH - inner, y: middle } };
    canvas.tunnel(link, link);
    let x = WIDTH / 2.0;
    let room = cloud.width - 16.0;
    canvas.text(Point { x, y: TOP + 24.0 }, Anchor::Middle, 13.0, "faint", "internet");
    let carrier = if tunnel.in_udp { "ESP in UDP" } else { "ESP" };
    let ike = parts(&format!("{}: {}", tunnel.version, tunnel.ciphers[0]), 12.0, room);
    let esp = parts(&format!("{carrier}: {}", tunnel.ciphers[1]), 12.0, room);
    let count = |lines: &[String]| number(lines.len());
    let above = middle - 14.0 - (count(&ike) - 1.0) * 16.0;
    for (lines, class, from) in [(&ike, "faint", above), (&esp, "ink", middle + 22.0)] {
        for (i, line) in lines.iter().enumerate() {
            let y = from + number(i) * 16.0;
            canvas.text(Point { x, y }, Anchor::Middle, 12.0, class, line);
        }
    }
}

/// A text in lines of a width, broken between words.
fn parts(text: &str, size: f64, width: f64) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if text_width(&format!("{line} {word}"), size) <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// What may cross, as pairs under the picture.
fn crossing(canvas: &mut Canvas, sites: [&SiteView; 2], tunnel: &TunnelView, y: f64) {
    canvas.strong(Point { x: WIDTH / 2.0, y: y + 34.0 }, Anchor::Middle, 13.0, "What may cross");
    let named = |site: &SiteView, prefix: &String| {
        if prefix.ends_with("/0") {
            return format!("everything through {}", site.name);
        }
        let name = site.networks.iter().find(|network| network.prefix == *prefix).map(|network| network.name.as_str());
        name.map_or_else(|| prefix.clone(), |name| format!("{name} {prefix}"))
    };
    if let Some(uncarried) = &tunnel.uncarried {
        let line = y + 58.0 + number(tunnel.pairs.len()) * 20.0;
        canvas.text(Point { x: WIDTH / 2.0, y: line + 6.0 }, Anchor::Middle, 12.0, "faint", uncarried);
    }
    for (i, (near, far)) in tunnel.pairs.iter().enumerate() {
        let line = y + 58.0 + number(i) * 20.0;
        canvas.text(Point { x: WIDTH / 2.0 - 20.0, y: line }, Anchor::End, 13.0, "ink", &named(sites[0], near));
        canvas.text(Point { x: WIDTH / 2.0, y: line }, Anchor::Middle, 13.0, "faint", "⇄");
        canvas.text(Point { x: WIDTH / 2.0 + 20.0, y: line }, Anchor::Start, 13.0, "ink", &named(sites[1], far));
    }
}
