//! Pictures, measured: nothing covers anything, no two lines cross that need not, no line runs through a box.

use crate::known;
use std::fmt::Write as _;

use uspan_core::*;

const SECRET: &[u8] = b"not a real secret, only for this test";

/// Sites with names of many lengths, and tunnels between pairs of them.
fn drawn(sites: usize, pairs: &[(usize, usize)]) -> Drawing {
    drawn_with(sites, pairs, |_| "")
}

fn drawn_with(sites: usize, pairs: &[(usize, usize)], more: impl Fn(usize) -> &'static str) -> Drawing {
    const NAMES: [&str; 8] = ["packhouse", "coldstore", "nursery", "press", "market", "orchard-by-the-river", "kiosk", "barn"];
    let name = |i: usize| format!("{}{}", NAMES[i % NAMES.len()], if i < NAMES.len() { String::new() } else { format!("-{i}") });
    let mut text = "unified-span = 1\n".to_owned();
    for i in 0..sites {
        let _ = writeln!(
            text,
            "[site.{}]\nplatform = \"strongswan\"\ngateway = {{ address = \"203.0.113.{}\", outside = \"wan0\", inside = \"lan0\" }}\n\
             networks = {{ lan = \"10.{}.0.0/16\", more = \"172.16.{}.0/24\" }}",
            name(i),
            i + 1,
            i + 1,
            i + 1
        );
    }
    for (i, (one, other)) in pairs.iter().enumerate() {
        let _ = writeln!(
            text,
            "[tunnel.t{i}]\nbetween = [\"{}\", \"{}\"]\nsecret = {{ file = \"k{i}\" }}\n{}",
            name(*one),
            name(*other),
            more(i)
        );
    }
    let (description, findings) = Description::parse(&Source::new("picture.span.toml", text.as_str()), known::context());
    assert!(!any_stops(&findings), "{findings:#?}");
    let file = |i: usize| {
        let secret = Secret::new([SECRET, i.to_string().as_bytes()].concat());
        (format!("k{i}"), SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false })
    };
    let supplied = Supplied { secrets: (0..pairs.len()).map(file).collect(), ..Supplied::default() };
    let built = build(&description, &supplied);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    draw(&description, &built.tunnels, Theme::Auto).expect("a picture")
}

/// What covers what, and what crosses.
fn faults(drawing: &Drawing) -> Vec<String> {
    let mut faults = Vec::new();
    for (i, (text, rect)) in drawing.labels.iter().enumerate() {
        for (other, more) in &drawing.labels[i + 1..] {
            if rect.overlaps(more) {
                faults.push(format!("`{text}` covers `{other}`"));
            }
        }
    }
    for (i, one) in drawing.boxes.iter().enumerate() {
        faults.extend(drawing.boxes[i + 1..].iter().filter(|other| one.overlaps(other)).map(|other| format!("{one:?} covers {other:?}")));
    }
    for (i, link) in drawing.links.iter().enumerate() {
        faults.extend(drawing.links[i + 1..].iter().filter(|other| link.crosses(other)).map(|other| format!("{link:?} crosses {other:?}")));
        // The box at either end is touched, and no other.
        let met = drawing
            .boxes
            .iter()
            .filter(|site| link.meets(&Rect { x: site.x + 1.0, y: site.y + 1.0, width: site.width - 2.0, height: site.height - 2.0 }));
        faults.extend(met.map(|site| format!("{link:?} runs through {site:?}")));
    }
    faults
}

fn star(spokes: usize) -> Vec<(usize, usize)> {
    (1..=spokes).map(|spoke| (0, spoke)).collect()
}

fn mesh(sites: usize) -> Vec<(usize, usize)> {
    (0..sites).flat_map(|one| (one + 1..sites).map(move |other| (one, other))).collect()
}

#[test]
fn one_tunnel() {
    let drawing = drawn(2, &[(0, 1)]);
    assert_eq!(faults(&drawing), [] as [String; 0]);
    assert_eq!((drawing.links.len(), drawing.boxes.len()), (1, 6));
}

#[test]
fn stars_of_any_size() {
    for spokes in [2, 3, 4, 5, 7, 12, 20] {
        let drawing = drawn(spokes + 1, &star(spokes));
        assert_eq!(faults(&drawing), [] as [String; 0], "{spokes} spokes");
        assert_eq!((drawing.links.len(), drawing.boxes.len()), (spokes, spokes + 1));
    }
}

/// Everyone with everyone hangs on one junction: no line crosses another one, of however many.
#[test]
fn meshes_of_any_size() {
    for sites in [3, 4, 5, 8, 10] {
        let drawing = drawn(sites, &mesh(sites));
        assert_eq!(faults(&drawing), [] as [String; 0], "{sites} sites");
        assert_eq!(drawing.boxes.len(), sites);
    }
}

#[test]
fn two_hubs_with_the_same_spokes() {
    for spokes in [1, 2, 5, 6] {
        for joined in [false, true] {
            let mut pairs: Vec<_> = (2..spokes + 2).flat_map(|spoke| [(0, spoke), (1, spoke)]).collect();
            if joined {
                pairs.push((0, 1));
            }
            let drawing = drawn(spokes + 2, &pairs);
            assert_eq!(faults(&drawing), [] as [String; 0], "{spokes} spokes, joined {joined}");
        }
    }
}

#[test]
fn hubs_behind_hubs_and_parts_apart() {
    let tree = [(0, 1), (0, 2), (0, 3), (1, 4), (1, 5), (2, 6), (2, 7), (2, 8), (3, 9)];
    assert_eq!(faults(&drawn(10, &tree)), [] as [String; 0]);
    let apart = [(0, 1), (2, 3), (2, 4), (5, 6), (6, 7), (7, 5)];
    assert_eq!(faults(&drawn(8, &apart)), [] as [String; 0]);
}

/// A ring of sites needs no crossing, in whatever order it is written down.
#[test]
fn a_ring_in_any_order() {
    let ring = [(0, 3), (3, 1), (1, 5), (5, 2), (2, 4), (4, 0)];
    assert_eq!(faults(&drawn(6, &ring)), [] as [String; 0]);
}

/// Where one of many tunnels is protected in another way, it stays a line of its own.
#[test]
fn what_is_protected_otherwise_is_seen() {
    let drawing = drawn_with(5, &mesh(5), |tunnel| if tunnel == 0 { "strength = \"brisk\"" } else { "" });
    assert!(
        drawing
            .labels
            .iter()
            .any(|(text, _)| text == "1 of them: IKEv2: aes-256-gcm, prf sha2-256, group ecp-256; ESP: aes-256-gcm, pfs ecp-256"
                || text.starts_with("1 of them"))
    );
    assert!(drawing.labels.iter().any(|(text, _)| text == "each with each"));
}

#[test]
fn the_same_bytes_for_the_same_description_and_nothing_but_text_as_text() {
    let [one, again] = [drawn(4, &star(3)), drawn(4, &star(3))];
    assert_eq!(one.svg, again.svg);
    assert!(one.svg.contains(">packhouse</text>") && one.svg.contains("<title id=\"picture-"));
    assert!(!one.svg.contains("http:") || one.svg.matches("http:").count() == 1, "nothing is fetched");
}
