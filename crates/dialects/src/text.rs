//! What the readers of all platforms share.

use std::net::IpAddr;
use std::ops::Range;

use glob::{MatchOptions, Pattern};
use ipnet::IpNet;

use uspan_model::digest::digest;
use uspan_model::effort::Budget;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::Tree;
use uspan_model::key::{Certificate, PublicKey, base64_bytes};
use uspan_model::source::{Place, Span};

/// A prefix, or an address as the prefix of itself.
pub(crate) fn prefix(text: &str) -> Option<IpNet> {
    match memchr::memchr(b'/', text.as_bytes()) {
        Some(_) => text.parse().ok(),
        None => text.parse::<IpAddr>().ok().map(IpNet::from),
    }
}

/// The first bytes of a word as a number: numbers of words are in the order of the words, and looked through at once.
pub(crate) fn beginning(word: &str) -> u64 {
    match word.as_bytes().first_chunk() {
        Some(first) => u64::from_be_bytes(*first),
        None => word.bytes().rev().fold(0, |number, byte| number >> 8 | u64::from(byte) << 56),
    }
}

/// Where the first line of a text ends.
pub(crate) fn line_end(text: &str) -> usize {
    memchr::memchr(b'\n', text.as_bytes()).unwrap_or(text.len())
}

/// A port by number, or by the name of a service that selectors are limited to (IANA service names); 0 and `any` are any.
pub(crate) fn ip_port(name: &str) -> Option<Option<u16>> {
    Some(match name {
        "" | "0" | "any" | "%any" => None,
        "ssh" => Some(22),
        "domain" => Some(53),
        "http" => Some(80),
        "ntp" => Some(123),
        "snmp" => Some(161),
        "bgp" => Some(179),
        "https" => Some(443),
        "l2tp" | "l2f" => Some(1701),
        number => Some(number.parse().ok()?),
    })
}

/// A word of a file, and its place.
#[derive(Clone, Debug, Default)]
pub(crate) struct Word {
    pub value: String,
    pub place: Place,
}

/// A public key of RSA as RFC 3110 has it, behind `0s` in base64: the length of the exponent, that, and the modulus.
pub(crate) fn rsa_key(text: &str) -> Option<PublicKey> {
    let bytes = base64_bytes(text.strip_prefix("0s")?)?;
    let (length, rest) = match bytes.split_first()? {
        (0, rest) => (usize::from(u16::from_be_bytes([*rest.first()?, *rest.get(1)?])), rest.get(2..)?),
        (length, rest) => (usize::from(*length), rest),
    };
    let (exponent, modulus) = rest.split_at_checked(length)?;
    (!modulus.is_empty()).then(|| PublicKey::of_rsa(modulus, exponent))
}

/// Bytes of a file with the line end behind them.
pub(crate) fn with_line_end(tree: &Tree, path: &str, bytes: Range<usize>) -> Range<usize> {
    let text = tree.files.get(path).map_or("", |file| file.text.as_str());
    let end = text.get(bytes.end..).map_or(bytes.end, |rest| bytes.end + line_end(rest));
    bytes.start..(end + 1).min(text.len())
}

/// The sections of ipsec.conf(5) that are those of connections: each from its heading to its last setting.
pub(crate) fn conns(text: &str) -> Vec<Range<usize>> {
    let mut found: Vec<Range<usize>> = Vec::new();
    let (mut start, mut within) = (0, false);
    for line in text.split_inclusive('\n') {
        let (from, to) = (start, start + line.len());
        start = to;
        if !line.starts_with([' ', '\t', '#', '\r', '\n']) {
            let name = line.strip_prefix("conn").filter(|rest| rest.starts_with([' ', '\t'])).map(str::trim);
            within = name.is_some_and(|name| !name.starts_with("%default"));
            if within {
                found.push(from..to);
            }
        } else if line.starts_with([' ', '\t']) && !line.trim().is_empty() && !line.trim().starts_with('#') {
            found.iter_mut().last().filter(|_| within).into_iter().for_each(|last| last.end = to);
        }
    }
    found
}

/// The name of an authority, for files and databases: the same for every tunnel that believes it.
pub(crate) fn authority_name(authority: &Certificate) -> String {
    format!("uspan-{:08x}", digest(authority.pem()))
}

/// Deeper than anybody includes.
const DEEPEST: usize = 16;

/// The files that include each other while they are read, so that none goes round in circles and all together come to
/// an end: what they are read over and over for is no more than a few times what they hold.
#[derive(Debug)]
pub(crate) struct Opened {
    open: Vec<String>,
    budget: Budget,
    /// The file at which it was given up.
    given_up: Option<String>,
}

impl Opened {
    /// For the files of a tree.
    pub(crate) fn of(tree: &Tree) -> Opened {
        let bytes = tree.files.values().map(|file| file.text.len()).sum();
        Opened { open: Vec::new(), budget: Budget::of(bytes), given_up: None }
    }

    /// Opens a file; `false` if it is open already, or too much is.
    pub(crate) fn enter(&mut self, path: &str, text: &str) -> bool {
        if self.has(path) || self.open.len() >= DEEPEST {
            return false;
        }
        let fits = self.afford(path, text.len());
        if fits {
            self.open.push(path.to_owned());
        }
        fits
    }

    /// Spends something on what a file says; `false` if there is no more to spend.
    pub(crate) fn afford(&mut self, path: &str, count: usize) -> bool {
        let fits = self.given_up.is_none() && self.budget.spend(count);
        if !fits && self.given_up.is_none() {
            self.given_up = Some(path.to_owned());
        }
        fits
    }

    /// Whether there is nothing more to spend.
    pub(crate) fn is_given_up(&self) -> bool {
        self.given_up.is_some()
    }

    /// That it was given up, where it was.
    pub(crate) fn finding(&self) -> Option<Finding> {
        let path = self.given_up.as_ref()?;
        let message =
            format!("`{path}` and what it takes in, again and again, is many times what stands in the files: the rest is not read");
        Some(Finding::new(&rules::TOO_MUCH, message).at(Place { file: path.as_str().into(), span: Span::default() }))
    }

    /// Whether a file is open.
    pub(crate) fn has(&self, path: &str) -> bool {
        self.open.iter().any(|open| open == path)
    }

    /// Closes the file that was opened last.
    pub(crate) fn leave(&mut self) {
        self.open.pop();
    }
}

/// The files of a tree that an include statement in the file at `path` means, in order of name: relative to its
/// folder, with the wildcards of a shell.
pub(crate) fn included(tree: &Tree, path: &str, pattern: &str) -> Vec<String> {
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let whole = match pattern.strip_prefix('/') {
        Some(absolute) => absolute.to_owned(),
        None => format!("{folder}/{pattern}"),
    };
    tree.files.keys().filter(|name| glob(&whole, name)).cloned().collect()
}

/// Whether a path fits a pattern as glob(3) takes it: `*`, `?` and `[...]`, none of which stands for a slash or for the dot of a hidden
/// file.
pub(crate) fn glob(pattern: &str, path: &str) -> bool {
    const WITHIN_FOLDERS: MatchOptions =
        MatchOptions { case_sensitive: true, require_literal_separator: true, require_literal_leading_dot: true };
    let mut folders = pattern.split('/').zip(path.split('/'));
    if folders.any(|(pattern, name)| name.starts_with('.') && !pattern.starts_with('.')) {
        return false;
    }
    let mut plain = pattern.replace("[^", "[!");
    // Two stars are no more than one.
    while plain.contains("**") {
        plain = plain.replace("**", "*");
    }
    // A bracket that nothing closes stands for itself.
    let understood = Pattern::new(&plain).or_else(|_| Pattern::new(&plain.replace('[', "[[]")));
    understood.is_ok_and(|understood| understood.matches_with(path, WITHIN_FOLDERS))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_connection_is_its_section() {
        let text = "# x\nconfig setup\n\ta=b\n\nconn one\n\tc=d\n\n# two\nconn two # e\n  f=g\n\t# h\n";
        let found = |what: &str| {
            let at = text.find(what).expect("there");
            conns(text).into_iter().find(|range| range.contains(&at)).map(|range| &text[range])
        };
        assert_eq!(found("c=d"), Some("conn one\n\tc=d\n"));
        assert_eq!(found("f=g"), Some("conn two # e\n  f=g\n"));
        assert_eq!((found("a=b"), found("# two")), (None, None));
    }

    #[test]
    fn wildcards_stay_within_a_folder() {
        for (pattern, path, fits) in [
            ("etc/a/*.conf", "etc/a/b.conf", true),
            ("etc/a/*.conf", "etc/a/b/c.conf", false),
            ("etc/a/*.conf", "etc/a/.conf", false),
            ("etc/*/x?z", "etc/a/xyz", true),
            ("etc/[ab]*", "etc/bcd", true),
            ("etc/[ab]*", "etc/cd", false),
            ("etc/*a*b", "etc/xxaxxaxb", true),
            ("etc/[", "etc/[", true),
            ("etc/[a-c]*", "etc/bcd", true),
            ("etc/[a-c]*", "etc/d", false),
            ("etc/[!a-c]*", "etc/d", true),
            ("etc/[^a-c]*", "etc/b", false),
            ("etc/**", "etc/a/b", false),
            ("etc/**", "etc/ab", true),
            ("etc/?", "etc/.", false),
        ] {
            assert_eq!(glob(pattern, path), fits, "{pattern} {path}");
        }
    }
}
