//! What stands on a gateway already, and must go when its tunnels are taken over: definitions, secrets, and the old daemon where another
//! one takes its place. Old definitions beside new ones are merged with them, or shadow them.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::ops::Range;

use uspan_dialects::dialect::shell::quote;
use uspan_dialects::profile::{Profile, TakeOut};
use uspan_model::gateway::{Connection, Gateway, Identity, Tree};
use uspan_model::source::{Place, shown};

/// A part of a file that must go.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct LeavingPart {
    /// The file, below the gateway's `/`.
    pub file: String,
    /// Its first and its last line, from 1.
    pub lines: (usize, usize),
    /// What it defines.
    pub what: String,
    bytes: (usize, usize),
}

/// What must go from a gateway.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Leaving {
    /// Parts of its files, in order.
    pub parts: Vec<LeavingPart>,
    /// What is left for people to do, because the files do not show it as a whole.
    pub by_hand: Vec<String>,
    /// A shell script to run on the gateway, as root, before the new files are put into place.
    pub script: String,
}

/// What defines the tunnels of a gateway that was read, connection by connection; the text of its files is not kept.
#[derive(Clone, Debug, Default)]
pub struct Defined {
    connections: BTreeMap<String, Vec<LeavingPart>>,
    secrets: Vec<(LeavingPart, Vec<Identity>)>,
    /// What `cksum` says of each file: the sum and its length in bytes.
    sums: BTreeMap<String, (u32, usize)>,
}

/// The sum of POSIX.1-2017, `cksum`.
fn sum(bytes: &[u8]) -> u32 {
    let turn =
        |sum: u32, byte: u8| (0..8).fold(sum ^ u32::from(byte) << 24, |sum, _| (sum << 1) ^ if sum >> 31 == 1 { 0x04c1_1db7 } else { 0 });
    let mut whole = bytes.iter().fold(0, |sum, byte| turn(sum, *byte));
    let mut length = bytes.len();
    while length > 0 {
        whole = turn(whole, (length & 0xff) as u8);
        length >>= 8;
    }
    !whole
}

/// A file as it is looked up: where its definitions stand, and where each of its lines ends.
struct Indexed {
    definitions: Vec<Range<usize>>,
    breaks: Vec<usize>,
}

impl Indexed {
    fn of(profile: &Profile, text: &str) -> Indexed {
        let breaks = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at).collect();
        Indexed { definitions: profile.family.definitions(text), breaks }
    }

    /// The definition that a place is in.
    fn definition(&self, at: usize) -> Option<Range<usize>> {
        let before = self.definitions.partition_point(|range| range.start <= at);
        self.definitions.get(before.checked_sub(1)?).filter(|range| range.contains(&at)).cloned()
    }

    fn part(&self, file: &str, range: Range<usize>, what: String) -> LeavingPart {
        let line = |at: usize| self.breaks.partition_point(|end| *end < at) + 1;
        // A line end belongs to the line before it.
        let ends = range.end.checked_sub(1).is_some_and(|last| self.breaks.binary_search(&last).is_ok());
        let last = range.end - usize::from(ends);
        LeavingPart { file: file.to_owned(), lines: (line(range.start), line(last)), what, bytes: (range.start, range.end) }
    }
}

/// Where the statements of a connection stand.
fn places(connection: &Connection) -> Vec<&Place> {
    let ike = connection.ike();
    let mut all = vec![connection.local.origin.place(), connection.remote.origin.place(), connection.encapsulation.origin.place()];
    all.extend([
        ike.exchange.origin.place(),
        ike.proposals.origin.place(),
        ike.local_method.origin.place(),
        ike.remote_method.origin.place(),
    ]);
    all.extend([
        ike.local_identity.origin.place(),
        ike.remote_identity.origin.place(),
        ike.lifetime.origin.place(),
        ike.liveness.origin.place(),
    ]);
    for child in &connection.children {
        all.extend([child.local.origin.place(), child.remote.origin.place(), child.esp.origin.place(), child.opening.origin.place()]);
        all.extend([child.mode.origin.place(), child.lifetime.origin.place()]);
    }
    all.extend(connection.remainder.0.iter().map(|one| Some(&one.place)));
    all.into_iter().flatten().collect()
}

/// Looks up what defines the tunnels of a gateway in its files.
pub fn defined(profile: &Profile, tree: &Tree, gateway: &Gateway) -> Defined {
    let mut defined = Defined::default();
    let mut indexed: BTreeMap<&str, Indexed> = BTreeMap::new();
    for connection in &gateway.connections {
        let mut ranges = BTreeSet::new();
        for place in places(connection) {
            let Some((path, file)) = tree.files.get_key_value(&*place.file) else { continue };
            let index = indexed.entry(path).or_insert_with(|| Indexed::of(profile, &file.text));
            ranges.extend(index.definition(place.span.start).map(|range| (path.as_str(), range.start, range.end)));
        }
        let parts = ranges.into_iter().map(|(path, start, end)| indexed[path].part(path, start..end, format!("`{}`", connection.name)));
        defined.connections.insert(connection.name.clone(), parts.collect());
    }
    for (path, range, identities) in profile.family.secrets_at(tree) {
        let Some((path, file)) = tree.files.get_key_value(&path) else { continue };
        let index = indexed.entry(path).or_insert_with(|| Indexed::of(profile, &file.text));
        defined.secrets.push((index.part(path, range, "a secret".to_owned()), identities));
    }
    let parts = defined.connections.values().flatten().chain(defined.secrets.iter().map(|(part, _)| part));
    let files: BTreeSet<&str> = parts.map(|part| part.file.as_str()).collect();
    defined.sums = files
        .into_iter()
        .map(|file| (file.to_owned(), tree.files[file].text.as_bytes()))
        .map(|(file, bytes)| (file, (sum(bytes), bytes.len())))
        .collect();
    defined
}

/// What must go from a gateway for these of its connections to be taken over: `site` is what it is called.
pub fn leaving(site: &str, profile: &Profile, gateway: &Gateway, defined: &Defined, taken: &[String]) -> Leaving {
    let mut leaving = Leaving::default();
    let (taken, stays): (Vec<&Connection>, Vec<&Connection>) = gateway.connections.iter().partition(|one| taken.contains(&one.name));
    let kept: Vec<&LeavingPart> = stays.iter().filter_map(|one| defined.connections.get(&one.name)).flatten().collect();
    let shares = |one: &LeavingPart| kept.iter().any(|other| (&other.file, other.bytes) == (&one.file, one.bytes));
    for connection in &taken {
        let parts = defined.connections.get(&connection.name).map_or(&[][..], Vec::as_slice);
        leaving.parts.extend(parts.iter().filter(|one| !shares(one)).cloned());
        if parts.iter().all(shares) {
            leaving.by_hand.push(format!("take `{}` out of the files of {site}: they do not show it as one section", connection.name));
        }
    }
    let ends = |one: &Connection| [one.ike().local_identity.value.clone(), one.ike().remote_identity.value.clone()];
    let serves =
        |identities: &[Identity], one: &Connection| identities.is_empty() || identities.iter().any(|identity| ends(one).contains(identity));
    for (part, identities) in &defined.secrets {
        let serves = |list: &[&Connection]| list.iter().any(|one| serves(identities, one));
        match (serves(&taken), serves(&stays)) {
            (true, false) => leaving.parts.push(part.clone()),
            (true, true) => {
                let place = format!("/{}, line {}", part.file, part.lines.0);
                leaving.by_hand.push(format!("the secret of {place} serves other connections, too, and stays"));
            }
            (false, _) => {}
        }
    }
    leaving.parts.sort();
    leaving.parts.dedup();
    let replaced = profile.written_as.is_some();
    if replaced && !stays.is_empty() {
        let names = stays.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", ");
        leaving.by_hand.push(format!("take over {names}, too: the old service has to stop, and they with it"));
    }
    for file in profile.family.needs().iter().filter(|file| !stays.is_empty() && leaving.parts.iter().any(|part| part.file == **file)) {
        leaving
            .by_hand
            .push(format!("do not put the new /{file} in the place of the old one, which has more in it: add its `include` lines there"));
    }
    let part_of = Gateway { connections: taken.iter().map(|one| (*one).clone()).collect(), ..Gateway::default() };
    let mut out = profile.family.take_out(&part_of, false);
    if replaced {
        out.after = stop(profile);
    }
    leaving.script = script(site, defined, &leaving, &out);
    leaving
}

/// The commands that stop a daemon for good, for another one to take its place.
pub fn stop(profile: &Profile) -> Vec<String> {
    profile.services.iter().map(|service| format!("systemctl disable --now {service}")).collect()
}

fn script(site: &str, defined: &Defined, leaving: &Leaving, out: &TakeOut) -> String {
    let mut files: BTreeMap<&str, Vec<&LeavingPart>> = BTreeMap::new();
    leaving.parts.iter().for_each(|part| files.entry(&part.file).or_default().push(part));
    let mut text = String::new();
    let _ = writeln!(
        text,
        "#!/bin/sh\n# Takes what was there before out of {}. Run it as root, before the new files are put into place.",
        shown(site)
    );
    text.push_str("# Written by Unified Span. What it takes out is kept in /var/backups/uspan.\nset -eu\numask 077\n");
    text.push_str("is() {\n\tset -- \"$1\" \"$2\" \"$3\" $(cksum <\"$1\")\n\t[ \"$2 $3\" = \"$4 $5\" ] || { echo \"$1 is not as it was read; nothing was done\" >&2; exit 1; }\n}\n");
    for file in files.keys() {
        let (sum, length) = defined.sums[*file];
        let _ = writeln!(text, "is {} {sum} {length}", quote(&format!("/{file}")));
    }
    text.push_str("\n# Copies.\nmkdir -p /var/backups/uspan\nkept=$(mktemp -d /var/backups/uspan/before.XXXXXX)\n");
    for file in files.keys() {
        let _ =
            writeln!(text, "cp -p {} \"$kept/{}\"", quote(&format!("/{file}")), file.replace('/', "_").replace(['"', '$', '`', '\\'], "_"));
    }
    if !out.before.is_empty() {
        text.push_str("\n# The SAs end.\n");
        out.before.iter().for_each(|command| _ = writeln!(text, "{command} || true"));
    }
    text.push_str("\n# The definitions go: the bytes before the first number and from the second on stay.\n");
    text.push_str("cut_out() {\n\t{ head -c \"$2\" \"$1\"; tail -c \"+$3\" \"$1\"; } >\"$kept/new\"\n\tcat \"$kept/new\" >\"$1\"\n\trm \"$kept/new\"\n}\n");
    for (file, parts) in &files {
        // From the last to the first, so that the others stay where they are.
        for part in parts.iter().rev() {
            let _ = writeln!(
                text,
                "cut_out {} {} {} # lines {} to {}",
                quote(&format!("/{file}")),
                part.bytes.0,
                part.bytes.1 + 1,
                part.lines.0,
                part.lines.1
            );
        }
    }
    text.push_str("\n# The daemon forgets them.\n");
    out.after.iter().for_each(|command| _ = writeln!(text, "{command} || true"));
    if !leaving.by_hand.is_empty() {
        text.push_str("\n# Left to you:\n");
        leaving.by_hand.iter().for_each(|line| _ = writeln!(text, "#   {}", shown(line)));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sum_is_that_of_cksum() {
        // cksum(1): `printf '' | cksum`, `printf 123456789 | cksum`.
        assert_eq!((sum(b""), sum(b"123456789")), (4_294_967_295, 930_766_865));
    }
}
