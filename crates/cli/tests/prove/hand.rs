//! Pairs as hands write them: the same statements in other spellings, in another order, with others beside them that say what holds
//! anyway. What a spelling means here is asked of the rows; whether it means that to the daemon, of the daemon.

use uspan_core::Tree;
use uspan_core::statement::Section;

use crate::fidelity::Rng;
use crate::known;
use crate::suite::{LSW, OI, SS};

/// A word of proposals, and others for the same.
type Alike = (&'static str, &'static [&'static str]);

/// Words of proposals by platform.
#[rustfmt::skip]
const WORDS: &[(&str, &[Alike])] = &[
    (SS, &[
        ("sha256", &["sha2_256"]), ("sha384", &["sha2_384"]), ("sha512", &["sha2_512"]), ("sha1", &["sha"]),
        ("curve25519", &["x25519"]), ("curve448", &["x448"]),
        ("aes128gcm16", &["aes128gcm128", "aes128gcm"]), ("aes256gcm16", &["aes256gcm128", "aes256gcm"]), ("aes128", &["aes"]),
        ("aes128ccm16", &["aes128ccm128", "aes128ccm"]), ("aes256ccm16", &["aes256ccm128", "aes256ccm"]),
    ]),
    (LSW, &[
        ("aes256", &["aes_cbc256", "aes_cbc_256", "AES256", "aes-256"]), ("aes128", &["aes_cbc128", "aes_cbc_128", "AES_CBC_128"]),
        ("aes192", &["aes_cbc192", "aes_cbc_192"]), ("aes_gcm256", &["aes_gcm_c256", "aes_gcm_16_256", "aes_gcm_256", "aes_gcm_c_256"]),
        ("aes_gcm128", &["aes_gcm_c128", "aes_gcm_16_128", "aes_gcm_128"]), ("aes_ctr256", &["aesctr256", "aes_ctr_256"]),
        ("sha2_256", &["sha2", "hmac_sha2_256", "sha256", "SHA2_256"]), ("sha2_384", &["hmac_sha2_384", "sha384"]),
        ("sha2_512", &["hmac_sha2_512", "sha512"]), ("sha1", &["sha", "hmac_sha1"]),
        ("modp2048", &["dh14", "MODP2048"]), ("modp3072", &["dh15"]), ("modp4096", &["dh16"]), ("dh19", &["ecp256", "ecp_256"]), ("dh20", &["ecp384", "ecp_384"]),
        ("dh31", &["curve25519"]), ("chacha20_poly1305", &["chacha20poly1305"]),
    ]),
    (OI, &[
        ("modp2048", &["grp14"]), ("modp3072", &["grp15"]), ("modp4096", &["grp16"]), ("ecp256", &["grp19"]), ("ecp384", &["grp20"]),
        ("curve25519", &["grp31"]),
    ]),
];

/// Statements that say what holds without them, or nothing that matters here.
#[rustfmt::skip]
const BESIDE: &[(&str, Section, &[&str])] = &[
    (SS, Section::Connection, &["mobike = yes", "fragmentation = yes", "unique = no", "reauth_time = 0", "send_certreq = yes", "dscp = 000000", "pull = yes", "aggressive = no", "encap = no"]),
    (SS, Section::Child, &["ipcomp = no", "hostaccess = no", "hw_offload = no", "copy_df = yes", "copy_ecn = yes", "policies = yes", "sha256_96 = no", "close_action = none", "tfc_padding = 0"]),
    (LSW, Section::Connection, &["rekeyfuzz=100%", "fragmentation=yes", "mobike=no", "compress=no", "nat-keepalive=yes", "hostaddrfamily=ipv4", "sha2-truncbug=no", "rekey=yes",
        "encapsulation=auto", "initial-contact=no", "leftsendcert=always", "ms-dh-downgrade=no", "decap-dscp=no", "phase2=esp"]),
];

/// Other spellings of a duration in whole seconds.
fn durations(value: &str) -> Vec<String> {
    let Some(seconds) = value.strip_suffix('s').unwrap_or(value).parse::<u64>().ok() else { return Vec::new() };
    let mut all = vec![seconds.to_string(), format!("{seconds}s")];
    for (unit, size) in [("m", 60), ("h", 3600)] {
        if seconds > 0 && seconds % size == 0 {
            all.push(format!("{}{unit}", seconds / size));
        }
    }
    all
}

/// A list of proposals with some of its words exchanged, and the others moved.
fn proposals(rng: &mut Rng, word: &str, value: &str) -> String {
    let known = WORDS.iter().find(|(platform, _)| *platform == word).map_or(&[][..], |(_, words)| words);
    let mut out = String::new();
    for part in value.split_inclusive([',', '-', ';', ' ']) {
        let (token, end) = match part.find([',', '-', ';', ' ']) {
            Some(at) => part.split_at(at),
            None => (part, ""),
        };
        let others = known.iter().find(|(own, _)| *own == token).map_or(&[][..], |(_, others)| others);
        out.push_str(if others.is_empty() || rng.below(2) == 0 { token } else { others[rng.below(others.len())] });
        out.push_str(if end == ";" && rng.below(2) == 0 { "-" } else { end });
    }
    out
}

/// Another spelling of a value, that is the same here.
fn another(rng: &mut Rng, word: &str, section: Section, keyword: &str, value: &str) -> Option<String> {
    let profile = known::platform(word);
    let row = profile.statements.iter().find(|row| row.section == section && row.keyword == keyword)?;
    let flags: &[&str] = if word == SS {
        &["yes", "no", "true", "false", "1", "0", "enabled", "disabled"]
    } else {
        &["yes", "no", "y", "n", "true", "false", "on", "off"]
    };
    let mut candidates = durations(value);
    candidates.extend(flags.iter().map(|flag| (*flag).to_owned()));
    candidates.push(value.replace(", ", ","));
    for prefix in ["fqdn:", "rfc822:"] {
        if let Some(name) = value.strip_prefix(&format!("\"{prefix}")).and_then(|rest| rest.strip_suffix('"')) {
            candidates.extend([name.to_owned(), format!("\"{name}\"")]);
            if prefix == "fqdn:" {
                candidates.push(format!("@{name}"));
            }
        }
    }
    candidates.extend((0..4).map(|_| proposals(rng, word, value)));
    let bare = |text: &str| text.trim_matches('"').to_owned();
    // Two that are no values are the same, too.
    let is_none = |one: &str| row.is_same(profile, one, "no such value");
    candidates.retain(|one| one != value && row.is_same(profile, &bare(value), &bare(one)) && !is_none(&bare(one)));
    (!candidates.is_empty()).then(|| rng.of(&candidates).clone())
}

/// The files of a tree as a hand would have written them; says what is spelled in another way.
pub fn respelled(rng: &mut Rng, word: &str, tree: &mut Tree) -> Vec<String> {
    let mut changed = Vec::new();
    let paths: Vec<String> =
        tree.files.keys().filter(|path| path.contains("harvest.conf") || path.contains("harvest.secrets")).cloned().collect();
    for path in paths {
        let text = tree.files[&path].text.clone();
        let new = match (word, path.contains("secrets")) {
            (_, true) => secrets(rng, word, &text),
            (SS, _) => sections(rng, &text, &mut changed),
            (LSW, _) => lines(rng, &text, &mut changed),
            _ => words(rng, &text, &mut changed),
        };
        tree.files.get_mut(&path).expect("there").text = new;
    }
    changed
}

/// A secret in text or base64 instead of digits.
fn secrets(rng: &mut Rng, word: &str, text: &str) -> String {
    let Some((before, rest)) = text.split_once("0x") else { return text.to_owned() };
    let end = rest.find(|c: char| !c.is_ascii_hexdigit()).unwrap_or(rest.len());
    let bytes: Vec<u8> = (0..end / 2).filter_map(|at| u8::from_str_radix(&rest[2 * at..2 * at + 2], 16).ok()).collect();
    let Ok(plain) = String::from_utf8(bytes) else { return text.to_owned() };
    let is_plain = plain.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte));
    // What stands around it is a quote already.
    if !is_plain || rng.below(2) == 0 || (word == SS && plain.starts_with("0")) {
        return text.to_owned();
    }
    let quoted = before.ends_with('"');
    let after = &rest[end..];
    if quoted { format!("{before}{plain}{after}") } else { format!("{before}\"{plain}\"{after}") }
}

/// Lines of `keyword = value` in sections with braces.
fn sections(rng: &mut Rng, text: &str, changed: &mut Vec<String>) -> String {
    let mut out = String::new();
    let mut open: Vec<&str> = Vec::new();
    for line in text.lines() {
        let body = line.trim();
        if body.starts_with('#') {
            continue;
        }
        if let Some(name) = body.strip_suffix('{') {
            open.push(name.trim());
            out.push_str(line);
            out.push('\n');
            let section = section_of(&open);
            beside(rng, SS, section.filter(|_| open.len() == 2 || open.len() == 4), text, &mut out, changed);
            continue;
        }
        if body == "}" {
            open.pop();
        }
        out.push_str(&spelled(rng, SS, section_of(&open), line, " = ", changed));
        out.push('\n');
    }
    out
}

/// The section of the rows that open braces are of.
fn section_of(open: &[&str]) -> Option<Section> {
    Some(match open {
        ["connections", _] => Section::Connection,
        ["connections", _, "local"] => Section::LocalEnd,
        ["connections", _, "remote"] => Section::RemoteEnd,
        ["connections", _, "children", _] => Section::Child,
        _ => return None,
    })
}

/// Lines of `keyword=value` below a heading.
fn lines(rng: &mut Rng, text: &str, changed: &mut Vec<String>) -> String {
    let mut blocks: Vec<(String, Vec<String>)> = Vec::new();
    for line in text.lines().filter(|line| !line.trim().is_empty() && !line.trim().starts_with('#')) {
        if !line.starts_with([' ', '\t']) {
            blocks.push((line.to_owned(), Vec::new()));
            continue;
        }
        let own = [Section::Connection, Section::Child].into_iter().map(|section| spelled(rng, LSW, Some(section), line, "=", changed));
        let new = own.into_iter().find(|new| new != line).unwrap_or_else(|| line.to_owned());
        if let Some((_, block)) = blocks.last_mut() {
            block.push(new);
        }
    }
    let mut out = String::new();
    for (heading, mut block) in blocks {
        rng.shuffle(&mut block);
        out.push_str(&heading);
        out.push('\n');
        let is_base = heading.starts_with("conn ") && block.iter().any(|line| line.trim().starts_with("left="));
        beside(rng, LSW, is_base.then_some(Section::Connection), text, &mut out, changed);
        block.iter().for_each(|line| out.extend([line, "\n"]));
        out.push('\n');
    }
    out
}

/// A statement in another spelling, now and then.
fn spelled(rng: &mut Rng, word: &str, section: Option<Section>, line: &str, between: &str, changed: &mut Vec<String>) -> String {
    let Some((section, (keyword, value))) = section.zip(line.split_once('=')) else { return line.to_owned() };
    let (keyword, value) = (keyword.trim(), value.trim());
    if rng.below(2) == 0 {
        return line.to_owned();
    }
    let Some(other) = another(rng, word, section, keyword, value) else { return line.to_owned() };
    let indent = &line[..line.len() - line.trim_start().len()];
    changed.push(format!("{keyword}: {value} as {other}"));
    format!("{indent}{keyword}{between}{other}")
}

/// Some statements more.
fn beside(rng: &mut Rng, word: &str, section: Option<Section>, text: &str, out: &mut String, changed: &mut Vec<String>) {
    let known = BESIDE.iter().find(|(platform, of, _)| *platform == word && Some(*of) == section);
    let Some((.., statements)) = known else { return };
    for _ in 0..rng.below(4) {
        let one = rng.of(statements);
        let keyword = one.split(['=', ' ']).next().unwrap_or_default();
        let said = text
            .lines()
            .chain(out.lines())
            .any(|line| line.trim().strip_prefix(keyword).is_some_and(|rest| rest.trim_start().starts_with('=')));
        if !said {
            out.push_str(&format!("\t{one}\n"));
            changed.push(format!("beside: {one}"));
        }
    }
}

/// Words of a policy.
fn words(rng: &mut Rng, text: &str, changed: &mut Vec<String>) -> String {
    let known = WORDS.iter().find(|(platform, _)| *platform == OI).map_or(&[][..], |(_, words)| words);
    let mut out = String::new();
    let mut before = "";
    for part in text.split_inclusive([' ', '\n']) {
        let token = part.trim_end_matches([' ', '\n']);
        let others = known.iter().find(|(own, _)| *own == token).map_or(&[][..], |(_, others)| others);
        let new = match () {
            () if rng.below(2) == 0 => token.to_owned(),
            () if ["lifetime", "ikelifetime"].contains(&before) => {
                let all: Vec<_> = durations(token).into_iter().filter(|one| !one.ends_with('s')).collect();
                if all.is_empty() { token.to_owned() } else { rng.of(&all).clone() }
            }
            () if !others.is_empty() => (*rng.of(others)).to_owned(),
            () => token.to_owned(),
        };
        if new != token {
            changed.push(format!("{token} as {new}"));
        }
        out.push_str(&new);
        out.push_str(&part[token.len()..]);
        before = token;
    }
    out
}
