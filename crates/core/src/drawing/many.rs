//! Several tunnels: sites and lines, placed so that nothing covers anything and no two lines cross that need not.
//!
//! Sites that all have tunnels with each other, protected alike, hang on one junction instead of on a web of lines; then a
//! star is a ring around its hub, two hubs stand at the sides of a column, and what is left lies on a ring in the order with
//! the fewest crossings.

use std::collections::{BTreeMap, BTreeSet};
use std::f64::consts::TAU;

use super::canvas::{Anchor, Canvas, Drawing, Link, Point, Rect, Theme, number, text_width};
use super::{SiteView, TunnelView};

/// From how many sites on everyone with everyone is drawn as a junction.
const JUNCTION: usize = 4;
/// The gap between boxes.
const GAP: f64 = 22.0;

/// A place in the picture.
struct MapNode {
    /// The site that stands there; none at a junction.
    site: Option<usize>,
    width: f64,
    height: f64,
    at: Point,
}

impl MapNode {
    fn rect(&self) -> Rect {
        Rect::around(self.at, self.width, self.height)
    }
}

/// A line between two nodes, and the tunnel that it is; none where it leads to a junction.
struct Edge {
    ends: [usize; 2],
    tunnel: Option<usize>,
}

struct Plan {
    nodes: Vec<MapNode>,
    edges: Vec<Edge>,
    /// What each junction stands for, by its node.
    junctions: BTreeMap<usize, Vec<usize>>,
}

pub(super) fn draw(sites: &[SiteView], tunnels: &[TunnelView], theme: Theme) -> Drawing {
    let mut plan = plan(sites, tunnels);
    place(&mut plan);
    let mut canvas = Canvas::new();
    let links: Vec<Link> = plan.edges.iter().map(|edge| link(&plan, edge)).collect();
    for (edge, link) in plan.edges.iter().zip(&links) {
        let [from, to] = edge.ends.map(|end| plan.nodes[end].at);
        canvas.tunnel(*link, Link { from, to });
    }
    for node in &plan.nodes {
        match node.site {
            Some(site) => box_of(&mut canvas, node, &sites[site]),
            None => canvas.panel(node.rect(), node.height / 2.0, false),
        }
    }
    for (node, members) in &plan.junctions {
        let at = plan.nodes[*node].at;
        canvas.strong(Point { x: at.x, y: at.y - 4.0 }, Anchor::Middle, 13.0, "each with each");
        let text = format!("{} tunnels", members.len());
        canvas.text(Point { x: at.x, y: at.y + 14.0 }, Anchor::Middle, 12.0, "faint", &text);
    }
    // The number of a tunnel stands on its line, where nothing else is.
    let mut numbered = Vec::new();
    let longest = plan.edges.iter().filter(|edge| edge.tunnel.is_some()).count().to_string();
    let radius = text_width(&longest, 11.0) / 2.0 + 5.0;
    for (edge, link) in plan.edges.iter().zip(&links) {
        let Some(tunnel) = edge.tunnel else { continue };
        numbered.push(tunnel);
        let text = numbered.len().to_string();
        let size = 2.0 * radius;
        let free = [0.5, 0.42, 0.58, 0.35, 0.65, 0.28, 0.72, 0.2, 0.8].into_iter().map(|part| link.at(part));
        let at = free.clone().find(|at| canvas.is_free(&Rect::around(*at, size, size))).unwrap_or_else(|| link.at(0.5));
        canvas.mark(at, radius, &text);
    }
    legend(&mut canvas, sites, tunnels, &numbered, &plan);
    let described: Vec<String> = tunnels
        .iter()
        .map(|tunnel| format!("{}: {} and {}", tunnel.name, sites[tunnel.ends[0]].name, sites[tunnel.ends[1]].name))
        .collect();
    canvas.finish(&format!("{} tunnels between {} sites", tunnels.len(), sites.len()), &described.join("; "), theme)
}

fn lines(site: &SiteView) -> Vec<(f64, &'static str, String)> {
    let mut lines = vec![(14.0, "ink", site.name.clone()), (12.0, "faint", site.public.clone())];
    let shown = if site.networks.len() > 2 { 1 } else { 2 };
    lines.extend(site.networks.iter().take(shown).map(|network| match network.reached {
        true => (12.0, "ink", network.prefix.clone()),
        false => (12.0, "faint", format!("{}, not reached", network.prefix)),
    }));
    if site.networks.len() > shown {
        lines.push((12.0, "ink", format!("and {} more", site.networks.len() - shown)));
    }
    lines
}

const LINE: f64 = 17.0;

fn plan(sites: &[SiteView], tunnels: &[TunnelView]) -> Plan {
    let nodes = sites.iter().enumerate().map(|(index, site)| {
        let lines = lines(site);
        let width = lines.iter().map(|(size, _, text)| text_width(text, *size) * 1.08).fold(0.0, f64::max) + 26.0;
        MapNode { site: Some(index), width, height: number(lines.len()) * LINE + 14.0, at: Point { x: 0.0, y: 0.0 } }
    });
    let mut plan = Plan { nodes: nodes.collect(), edges: Vec::new(), junctions: BTreeMap::new() };
    let mut open: BTreeSet<usize> = (0..tunnels.len()).collect();
    while let Some((members, within)) = clique(tunnels, &open, sites.len()) {
        let node = plan.nodes.len();
        plan.nodes.push(MapNode {
            site: None,
            width: text_width("each with each", 13.0) * 1.08 + 30.0,
            height: 52.0,
            at: Point { x: 0.0, y: 0.0 },
        });
        plan.edges.extend(members.into_iter().map(|member| Edge { ends: [node, member], tunnel: None }));
        open.retain(|tunnel| !within.contains(tunnel));
        plan.junctions.insert(node, within);
    }
    plan.edges.extend(open.into_iter().map(|tunnel| Edge { ends: tunnels[tunnel].ends, tunnel: Some(tunnel) }));
    plan
}

/// The largest set of sites that all have tunnels with each other, protected alike, that is easily found; with those tunnels.
fn clique(tunnels: &[TunnelView], open: &BTreeSet<usize>, sites: usize) -> Option<(Vec<usize>, Vec<usize>)> {
    let mut between: BTreeMap<(usize, usize), usize> = BTreeMap::new();
    let mut near: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); sites];
    for index in open {
        let [one, other] = tunnels[*index].ends;
        between.entry((one.min(other), one.max(other))).or_insert(*index);
        near[one].insert(other);
        near[other].insert(one);
    }
    let link = |one: usize, other: usize| between.get(&(one.min(other), one.max(other))).copied();
    let mut best: Option<Vec<usize>> = None;
    for start in 0..sites {
        for second in near[start].iter().filter(|second| **second > start) {
            let Some(first) = link(start, *second) else { continue };
            let alike =
                |tunnel: usize| tunnels[tunnel].ciphers == tunnels[first].ciphers && tunnels[tunnel].version == tunnels[first].version;
            let mut members = vec![start, *second];
            for other in near[start].intersection(&near[*second]) {
                if members.iter().all(|member| link(*member, *other).is_some_and(alike)) {
                    members.push(*other);
                }
            }
            if members.len() >= JUNCTION && best.as_ref().is_none_or(|best| members.len() > best.len()) {
                best = Some(members);
            }
        }
    }
    let mut members = best?;
    members.sort_unstable();
    let pairs = members.iter().enumerate().flat_map(|(i, one)| members[i + 1..].iter().map(move |other| (*one, *other)));
    let within = pairs.filter_map(|(one, other)| link(one, other)).collect();
    Some((members, within))
}

fn link(plan: &Plan, edge: &Edge) -> Link {
    let [from, to] = edge.ends.map(|end| &plan.nodes[end]);
    Link { from: from.rect().edge_towards(to.at), to: to.rect().edge_towards(from.at) }
}

fn neighbours(plan: &Plan) -> Vec<BTreeSet<usize>> {
    let mut near = vec![BTreeSet::new(); plan.nodes.len()];
    for edge in &plan.edges {
        let [one, other] = edge.ends;
        near[one].insert(other);
        near[other].insert(one);
    }
    near
}

/// Places each part that hangs together, one beside the other.
fn place(plan: &mut Plan) {
    let near = neighbours(plan);
    let mut seen = vec![false; plan.nodes.len()];
    let mut right = 0.0;
    for start in 0..plan.nodes.len() {
        if seen[start] {
            continue;
        }
        let mut part = Vec::new();
        let mut open = vec![start];
        while let Some(node) = open.pop() {
            if !std::mem::replace(&mut seen[node], true) {
                part.push(node);
                open.extend(near[node].iter().copied());
            }
        }
        part.sort_unstable();
        let lines = part.iter().map(|node| near[*node].len()).sum::<usize>() / 2;
        if lines < part.len() {
            tree(plan, &part, &near);
        } else if let Some(hubs) = two_hubs(&part, &near) {
            column(plan, &part, hubs, &near);
        } else {
            ring(plan, &part, &near);
        }
        let edges = |plan: &Plan, side: fn(&Rect) -> f64, best: fn(f64, f64) -> f64, from: f64| {
            part.iter().map(|node| side(&plan.nodes[*node].rect())).fold(from, best)
        };
        let left = edges(plan, |rect| rect.x, f64::min, f64::INFINITY);
        let top = edges(plan, |rect| rect.y, f64::min, f64::INFINITY);
        for node in &part {
            plan.nodes[*node].at.x += right - left;
            plan.nodes[*node].at.y -= top;
        }
        right = edges(plan, |rect| rect.x + rect.width, f64::max, f64::NEG_INFINITY) + 3.0 * GAP;
    }
}

/// Whether the boxes of a part are apart, and no line runs through a box that it does not end at.
fn is_clear(plan: &Plan, part: &[usize]) -> bool {
    let apart = part.iter().enumerate().all(|(i, one)| {
        let rect = plan.nodes[*one].rect().grown(GAP / 2.0);
        part[i + 1..].iter().all(|other| !rect.overlaps(&plan.nodes[*other].rect().grown(GAP / 2.0)))
    });
    apart
        && plan.edges.iter().filter(|edge| part.contains(&edge.ends[0])).all(|edge| {
            let link = link(plan, edge);
            part.iter().filter(|node| !edge.ends.contains(node)).all(|node| !link.meets(&plan.nodes[*node].rect().grown(4.0)))
        })
}

/// Tries wider and wider layouts until nothing covers anything.
fn widen(plan: &mut Plan, part: &[usize], layout: impl Fn(&mut Plan, f64)) {
    const TRIES: u32 = 400;
    for step in 0..TRIES {
        layout(plan, 90.0 + 10.0 * f64::from(step));
        if is_clear(plan, part) {
            return;
        }
    }
}

/// Wider than high, as screens and pages are.
const ASPECT: f64 = 1.45;

fn on_ellipse(radius: f64, angle: f64) -> Point {
    Point { x: radius * ASPECT * angle.cos(), y: radius * angle.sin() }
}

/// A tree: the site with the most tunnels in the middle, the others around it in sectors, as wide as what hangs on them.
fn tree(plan: &mut Plan, part: &[usize], near: &[BTreeSet<usize>]) {
    let Some(root) = part.iter().copied().max_by_key(|node| (near[*node].len(), usize::MAX - node)) else { return };
    // Two in a row stand beside each other.
    if part.len() == 2 {
        let apart = part.iter().map(|node| plan.nodes[*node].width).sum::<f64>() / 2.0 + 120.0;
        plan.nodes[part[1]].at = Point { x: apart, y: 0.0 };
        return;
    }
    let mut order = Vec::new();
    let mut leaves = vec![0_usize; plan.nodes.len()];
    walk_down(root, near, &mut order);
    for (node, parent, _) in order.iter().rev() {
        leaves[*node] = leaves[*node].max(1);
        if *parent != usize::MAX {
            leaves[*parent] += leaves[*node];
        }
    }
    widen(plan, part, |plan, radius| {
        let mut sectors: BTreeMap<usize, (f64, f64)> = [(root, (-TAU / 4.0, TAU))].into();
        for (node, parent, depth) in &order {
            if *parent == usize::MAX {
                plan.nodes[*node].at = Point { x: 0.0, y: 0.0 };
                continue;
            }
            let (from, width) = sectors[parent];
            let own = width * number(leaves[*node]) / number(leaves[*parent].max(1));
            sectors.insert(*node, (from, own));
            sectors.insert(*parent, (from + own, width));
            plan.nodes[*node].at = on_ellipse(radius * number(*depth), from + own / 2.0);
            // The rest of the parent's sector is shared as before.
            let rest = sectors[parent];
            sectors.insert(*parent, (rest.0, width));
        }
    });
}

/// The nodes of a tree from its root, each with its parent and its depth.
fn walk_down(root: usize, near: &[BTreeSet<usize>], order: &mut Vec<(usize, usize, usize)>) {
    let mut open = vec![(root, usize::MAX, 0)];
    while let Some((node, parent, depth)) = open.pop() {
        order.push((node, parent, depth));
        open.extend(near[node].iter().rev().filter(|next| **next != parent).map(|next| (*next, node, depth + 1)));
    }
}

/// Two nodes that all others hang on, and on nothing else.
fn two_hubs(part: &[usize], near: &[BTreeSet<usize>]) -> Option<[usize; 2]> {
    let mut by_degree = part.to_vec();
    by_degree.sort_by_key(|node| (usize::MAX - near[*node].len(), *node));
    let hubs = [*by_degree.first()?, *by_degree.get(1)?];
    let others = part.iter().filter(|node| !hubs.contains(node));
    let hang = others.clone().all(|node| near[*node].iter().all(|next| hubs.contains(next)));
    hang.then_some(hubs)
}

/// The two hubs at the sides of a column of the others; a line between the hubs passes through a gap in its middle.
fn column(plan: &mut Plan, part: &[usize], hubs: [usize; 2], near: &[BTreeSet<usize>]) {
    let others: Vec<usize> = part.iter().copied().filter(|node| !hubs.contains(node)).collect();
    let joined = near[hubs[0]].contains(&hubs[1]);
    let gap = |i: usize| if joined && i == others.len().div_ceil(2) { 3.0 * GAP } else { GAP };
    let mut y = 0.0;
    for (i, node) in others.iter().enumerate() {
        let height = plan.nodes[*node].height;
        y += if i == 0 { 0.0 } else { gap(i) } + height / 2.0;
        plan.nodes[*node].at = Point { x: 0.0, y };
        y += height / 2.0;
    }
    let middle = match (joined, others.len()) {
        // The line goes above a single one.
        (true, 1) => -3.0 * GAP,
        (true, count) => {
            let [above, below] = [count.div_ceil(2) - 1, count.div_ceil(2)].map(|i| plan.nodes[others[i]].rect());
            f64::midpoint(above.y + above.height, below.y)
        }
        (false, _) => y / 2.0,
    };
    widen(plan, part, |plan, radius| {
        plan.nodes[hubs[0]].at = Point { x: -radius * 2.0, y: middle };
        plan.nodes[hubs[1]].at = Point { x: radius * 2.0, y: middle };
    });
}

/// All on a ring, in the order with the fewest crossings that exchanging two of them finds.
fn ring(plan: &mut Plan, part: &[usize], near: &[BTreeSet<usize>]) {
    let mut order = part.to_vec();
    let mut best = crossings(&order, near);
    // Of many the order stays as it is: nobody reads such a picture line by line.
    const MOST: usize = 40;
    while best > 0 && order.len() <= MOST {
        let before = best;
        for i in 0..order.len() {
            for j in i + 1..order.len() {
                order.swap(i, j);
                let now = crossings(&order, near);
                if now < best {
                    best = now;
                } else {
                    order.swap(i, j);
                }
            }
        }
        if best == before {
            break;
        }
    }
    let count = number(order.len());
    widen(plan, part, |plan, radius| {
        for (i, node) in order.iter().enumerate() {
            plan.nodes[*node].at = on_ellipse(radius, TAU * number(i) / count - TAU / 4.0);
        }
    });
}

/// How many chords of a ring cross.
fn crossings(order: &[usize], near: &[BTreeSet<usize>]) -> usize {
    let place: BTreeMap<usize, usize> = order.iter().enumerate().map(|(i, node)| (*node, i)).collect();
    let chords: Vec<(usize, usize)> = (order.iter())
        .flat_map(|node| {
            near[*node].iter().filter(|next| *next > node).map(|next| (place[node].min(place[next]), place[node].max(place[next])))
        })
        .collect();
    let cross = |(a, b): (usize, usize), (c, d): (usize, usize)| (a < c && c < b && b < d) || (c < a && a < d && d < b);
    chords.iter().enumerate().map(|(i, one)| chords[i + 1..].iter().filter(|other| cross(*one, **other)).count()).sum()
}

fn box_of(canvas: &mut Canvas, node: &MapNode, site: &SiteView) {
    let rect = node.rect();
    canvas.site(rect);
    for (i, (size, class, text)) in lines(site).into_iter().enumerate() {
        let at = Point { x: node.at.x, y: rect.y + 7.0 + LINE * (number(i) + 0.78) };
        if i == 0 {
            canvas.strong(at, Anchor::Middle, size, &text);
        } else {
            canvas.text(at, Anchor::Middle, size, class, &text);
        }
    }
}

/// Under the picture: which tunnel each number is, and how all are protected; each way of it once.
fn legend(canvas: &mut Canvas, sites: &[SiteView], tunnels: &[TunnelView], numbered: &[usize], plan: &Plan) {
    let bottom = plan.nodes.iter().map(|node| node.rect().y + node.rect().height).fold(0.0, f64::max);
    let mut y = bottom + 44.0;
    let mut ways: BTreeMap<String, usize> = BTreeMap::new();
    for tunnel in tunnels {
        let carrier = tunnel.carrier();
        *ways.entry(format!("{}: {}; {carrier}: {}", tunnel.version, tunnel.ciphers[0], tunnel.ciphers[1])).or_default() += 1;
    }
    for (way, count) in &ways {
        let head = if ways.len() == 1 { "all".to_owned() } else { format!("{count} of them") };
        canvas.text(Point { x: 0.0, y }, Anchor::Start, 12.0, "ink", &format!("{head}: {way}"));
        y += 20.0;
    }
    y += 6.0;
    let rows: Vec<String> = (numbered.iter().enumerate())
        .map(|(i, tunnel)| {
            let tunnel = &tunnels[*tunnel];
            format!("{}  {}: {} ⇄ {}", i + 1, tunnel.name, sites[tunnel.ends[0]].name, sites[tunnel.ends[1]].name)
        })
        .collect();
    let width = rows.iter().map(|row| text_width(row, 12.0)).fold(0.0, f64::max) + 2.0 * GAP;
    let columns = if rows.len() > 6 { 2 } else { 1 };
    let each = rows.len().div_ceil(columns);
    for (i, row) in rows.iter().enumerate() {
        let at = Point { x: width * number(i / each.max(1)), y: y + 18.0 * number(i % each.max(1)) };
        canvas.text(at, Anchor::Start, 12.0, "ink", row);
    }
}
