//! What small inputs may cost: steps that grow with their size, counted, and memory that does.
//!
//! Each case is an input that was made to be expensive. The one of twice the size may take little more than twice the steps.

use crate::known;
use std::fmt::Write as _;

use uspan_core::effort::counted;
use uspan_core::{Adoptee, Description, Finding, Gateway, ReadGateway, Source, Supplied, Tree, TreeFile, adopt, build};

/// As many steps each byte may take, beside a start that is free.
const STEPS_A_BYTE: u64 = 20;
const FREE: u64 = 300_000;
/// As many findings a thousand bytes may be worth.
const FINDINGS: usize = 300;

fn tree(files: impl IntoIterator<Item = (String, String)>) -> Tree {
    let mut tree = Tree::default();
    files.into_iter().for_each(|(path, text)| tree.add(path, TreeFile::public(text)));
    tree
}

fn read(word: &str, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let bytes: usize = tree.files.values().map(|file| file.text.len()).sum();
    let ((gateway, findings), steps) = counted(|| known::read_as(known::platform(word), tree));
    assert!(steps <= STEPS_A_BYTE * bytes as u64 + FREE, "{steps} steps for {bytes} bytes");
    assert!(findings.len() <= bytes * FINDINGS / 1000 + 50, "{} findings for {bytes} bytes", findings.len());
    (gateway, findings)
}

fn says(findings: &[Finding], code: &str) -> bool {
    findings.iter().any(|finding| finding.rule.code == code)
}

#[test]
fn sections_that_take_over_the_same_one_again_and_again() {
    for times in [500, 4000] {
        let mut text = format!("conn x\n\tleft=192.0.2.1\n\tright=192.0.2.2\n{}", "\talso=x\n".repeat(times));
        (0..300).for_each(|i| text.push_str(&format!("conn c{i}\n\talso=x\n")));
        let (_, findings) = read("libreswan", &tree([("etc/ipsec.d/a.conf".to_owned(), text)]));
        assert!(says(&findings, "US803") && findings.len() < 1000, "{}", findings.len());
    }
}

#[test]
fn sections_that_take_over_each_other_in_a_chain() {
    // Each takes over the next two: without an end to it that is 2 to the power of their number.
    let text: String =
        (0..2000).map(|i| format!("conn c{i}\n\tright=192.0.2.{}\n\talso=c{}\n\talso=c{}\n", i % 250, i + 1, i + 2)).collect();
    let (_, findings) = read("libreswan", &tree([("etc/ipsec.d/a.conf".to_owned(), text)]));
    assert!(says(&findings, "US803"), "it is said that not all is taken over");
}

#[test]
fn braces_in_braces() {
    for times in [2000, 8000] {
        read("strongswan", &tree([("etc/swanctl/conf.d/a.conf".to_owned(), "a {\n".repeat(times))]));
        read("strongswan", &tree([("etc/swanctl/conf.d/a.conf".to_owned(), "a {".repeat(times))]));
        let flat: String = (0..times).map(|i| format!("s{i} {{}}\n")).collect();
        read("strongswan", &tree([("etc/swanctl/conf.d/a.conf".to_owned(), format!("connections {{\n{flat}}}\n"))]));
    }
}

#[test]
fn files_that_include_each_other() {
    for count in [10, 20] {
        let includes = |folder: &str, statement: &str, end: &str| {
            let main =
                if end == "conf" && folder.contains("iked") { Some(("etc/iked.conf".to_owned(), statement.to_owned())) } else { None };
            let files = (0..count).map(|i| (format!("{folder}/f{i}.{end}"), format!("{statement}\n")));
            tree(files.chain(main))
        };
        let (_, findings) = read("strongswan", &includes("etc/swanctl/conf.d", "include *.conf", "conf"));
        assert!(!findings.is_empty());
        read("libreswan", &includes("etc/ipsec.d", "include *.conf", "conf"));
        let nft = includes("etc/nftables.d", "include \"*.nft\"", "nft");
        read("strongswan", &nft);
    }
}

#[test]
fn macros_of_macros() {
    let text: String = (0..60).map(|i| format!("m{} = \"$m{i} $m{i} $m{i} $m{i}\"\n", i + 1)).collect();
    read("openiked", &tree([("etc/iked.conf".to_owned(), format!("m0 = \"a\"\n{text}set $m60\n"))]));
}

#[test]
fn sections_that_refer_to_each_other() {
    let text: String = (0..60).map(|i| format!("r{} {{ a : r{i} {{}} b : r{i} {{}} }}\n", i + 1)).collect();
    let (_, findings) =
        read("strongswan", &tree([("etc/swanctl/swanctl.conf".to_owned(), format!("r0 {{ x = 1 }}\n{text}connections : r60 {{}}\n"))]));
    assert!(says(&findings, "US808"), "it is said that not all is read");
    // Sections that take over themselves, by names that are none.
    for times in [60, 600] {
        let text =
            format!("a = 1\nb {{ c = 1 }}\nx{} {{ y : x {{ }} }}\n : x {{ : b{} {{ }} }}\n", ", ".repeat(times), " , , x ".repeat(times));
        read("strongswan", &tree([("etc/swanctl/swanctl.conf".to_owned(), text)]));
    }
}

/// What fuzzing found: half a minute for a thousand bytes.
#[test]
fn references_without_a_name() {
    let commas = ",".repeat(60);
    let text = format!("a {{ x = 1 }}\n:b {{ c {{ d = 1 }}\n }}\n n{commas}l {{\n }}\n m{commas}{commas}l {{ o{commas} {{ p = 2 }} }}\n");
    read("strongswan", &tree([("etc/swanctl/swanctl.conf".to_owned(), text)]));
}

/// A gateway with this many Child SAs of one connection.
fn with_children(count: usize, own: usize, other: usize, shift: usize) -> Tree {
    let mut text = String::from("connections {\n h {\n version = 2\n");
    let _ = writeln!(text, "local_addrs = 192.0.2.{own}\n remote_addrs = 192.0.2.{other}\n local {{ auth = psk\n id = 192.0.2.{own} }}");
    let _ = writeln!(text, "remote {{ auth = psk\n id = 192.0.2.{other} }}\n children {{");
    for i in 0..count {
        let net = |side: usize| format!("10.{}.{}.{}/32", side, (i + shift) / 250, (i + shift) % 250);
        let _ = writeln!(text, "c{i} {{ local_ts = {}\n remote_ts = {} }}", net(own), net(other));
    }
    text.push_str("}\n}\n}\n");
    tree([("etc/swanctl/conf.d/h.conf".to_owned(), text)])
}

#[test]
fn thousands_of_child_sas_held_against_each_other() {
    // As many as show how the steps grow; a run of all tests takes more.
    let many = known::cases(120).min(500) as usize;
    for (count, shift) in [(many / 2, 0), (many, 0), (many, 1), (many, 5000)] {
        let trees = [with_children(count, 1, 2, 0), with_children(count, 2, 1, shift)];
        let [one, other] = trees.each_ref().map(|tree| read("strongswan", tree).0);
        let reading = |name, gateway, tree| ReadGateway { name, gateway, ends_open: false, tree: Some(tree) };
        let both = || [reading("one", &one, &trees[0]), reading("other", &other, &trees[1])];
        let [left, right] = both();
        let (_, steps) = counted(|| known::trees_compared([left, right]));
        assert!(steps <= 300 * count as u64 + 10_000_000, "{steps} steps for {count} Child SAs");
        let facts = known::platform("strongswan");
        let (adopted, steps) = counted(|| adopt(both().map(|reading| Adoptee { reading, facts })));
        assert!(steps <= 300 * count as u64 + 10_000_000, "{steps} steps for {count} Child SAs");
        assert!(!adopted.text.is_empty());
    }
}

#[test]
fn lists_of_networks_that_would_be_millions_of_pairs() {
    let list = |side: usize| (0..3000).map(|i| format!("10.{side}.{}.{}/32", i / 250, i % 250)).collect::<Vec<_>>().join(", ");
    let text = format!(
        "connections {{ h {{ local_addrs = 192.0.2.1\n remote_addrs = 192.0.2.2\n children {{ c {{ local_ts = {}\n remote_ts = {} }} }} }} }}\n",
        list(1),
        list(2)
    );
    let (gateway, findings) = read("strongswan", &tree([("etc/swanctl/conf.d/h.conf".to_owned(), text)]));
    assert!(gateway.connections.is_empty() && says(&findings, "US808"));
}

#[test]
fn a_description_of_very_many_pairs_is_refused_before_it_is_worked_out() {
    let nets =
        |begin: usize| (0..3000).map(|i| format!("n{i} = \"10.{}.{}.0/24\"", begin + i / 250, i % 250)).collect::<Vec<_>>().join(", ");
    let site = |name: &str, end: usize, nets: String| {
        let gateway = format!("{{ address = \"192.0.2.{end}\", outside = \"eth0\", inside = \"eth1\" }}");
        format!("[site.{name}]\nplatform = \"strongswan\"\ngateway = {gateway}\nnetworks = {{ {nets} }}\n")
    };
    let sites = site("packhouse", 1, nets(1)) + &site("coldstore", 2, nets(100));
    let text =
        format!("unified-span = 1\n{sites}[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n");
    let (description, findings) = Description::parse(&Source::new("d", text.as_str()), known::context());
    assert!(says(&findings, "US335"), "{findings:?}");
    assert!(description.tunnels.iter().all(|tunnel| tunnel.pairs.len() <= 1024));
    drop(build(&description, &Supplied::default()));
}
