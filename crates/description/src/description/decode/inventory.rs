//! Sites from a file: each row becomes the table that it would be in the description, so that everything that is checked and
//! understood there is checked and understood here.

use std::borrow::Cow;
use std::collections::BTreeMap;

use csv_core::{ReadFieldResult, ReaderBuilder};
use jsonc_parser::ast::{ObjectProp, Value};
use jsonc_parser::common::Ranged as _;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{Decoder, Node, printable, table, text};
use crate::description::language::{Key, SITE, Shape};
use crate::description::{Site, values};
use uspan_model::finding::{self as rules, suggestion};
use uspan_model::parallel;
use uspan_model::source::{Located, Source, Span};

/// A key of a site, part by part, and its shape.
type Path = (Vec<&'static str>, &'static Shape);

/// Where the name of a site stands.
const NAME: &str = "name";
/// Where those stand that it is joined with.
const PEERS: &str = "peers";
/// Deeper nesting says nothing about a site.
const DEEPEST: usize = 16;

/// An inventory, and the text that stands behind the description.
pub(super) struct Inventory<'t, 'i> {
    pub(super) name: Located<String>,
    fields: &'t DeTable<'i>,
    /// Which of the texts of the source; nothing where it cannot be read.
    text: Option<usize>,
    why: String,
}

/// Reads the files of the inventories that a description names.
pub(super) fn files<'t, 'i>(
    root: &'t DeTable<'i>,
    read: &mut dyn FnMut(&str) -> Result<String, String>,
) -> (Vec<Inventory<'t, 'i>>, Vec<Source>) {
    let (mut all, mut texts): (Vec<Inventory<'_, '_>>, Vec<Source>) = (Vec::new(), Vec::new());
    for (name, node) in root.get("inventory").and_then(table).map(super::in_file_order).unwrap_or_default() {
        let Some(fields) = table(node) else { continue };
        let Some(file) = fields.get("file").and_then(text).filter(|file| !file.value.is_empty()) else { continue };
        let (found, why) = match texts.iter().position(|text| **text.name() == *file.value) {
            Some(known) => (Some(known + 1), String::new()),
            None => match read(file.value) {
                Ok(content) => {
                    texts.push(Source::new(file.value, content));
                    (Some(texts.len()), String::new())
                }
                Err(why) => (None, why),
            },
        };
        all.push(Inventory { name: Located::new(name.get_ref().to_string(), name.span()), fields, text: found, why });
    }
    (all, texts)
}

/// The keys of a site that a row can have, by their spelling.
fn paths() -> BTreeMap<String, Path> {
    fn enter(keys: &'static [Key], above: &[&'static str], all: &mut BTreeMap<String, Path>) {
        for key in keys {
            let path: Vec<&'static str> = above.iter().copied().chain([key.name]).collect();
            if let Shape::Table(inner) = &key.shape {
                enter(inner, &path, all);
            }
            all.insert(path.join("."), (path, &key.shape));
        }
    }
    let mut all = BTreeMap::new();
    enter(SITE, &[], &mut all);
    all
}

/// What a column holds.
enum Column {
    Name,
    Peers,
    Key(Vec<&'static str>, &'static Shape),
    /// A network of this name.
    Network(String),
    /// Nothing of a site.
    Other,
}

impl Decoder<'_> {
    /// Adds the sites of an inventory.
    pub(super) fn inventory(&mut self, inventory: &Inventory<'_, '_>, sites: &mut Vec<Site>) {
        let fields = inventory.fields;
        let source = self.source.clone();
        let Some((start, content)) = inventory.text.and_then(|number| source.texts().nth(number)) else {
            let span = fields.get("file").map_or(inventory.name.span, |node| node.span().into());
            let file = fields.get("file").and_then(text).map_or("", |file| file.value);
            self.say(&rules::INVENTORY_UNREADABLE, span, format!("`{}` cannot be read: {}", printable(file), inventory.why));
            return;
        };
        let paths = paths();
        let columns = self.columns(fields, &paths);
        let all = fields.get("all").and_then(table).cloned().unwrap_or_default();
        match content.name().to_ascii_lowercase().ends_with(".json") {
            true => self.json(content, start, &columns, &paths, &all, sites),
            false => self.csv(content, start, &columns, &paths, &all, sites),
        }
    }

    /// Headings of the file, by what they hold.
    fn columns(&mut self, fields: &DeTable<'_>, paths: &BTreeMap<String, Path>) -> BTreeMap<String, String> {
        let mut headings = BTreeMap::new();
        for (key, node) in fields.get("columns").and_then(table).map(super::in_file_order).unwrap_or_default() {
            let word = key.get_ref().as_ref();
            if matches!(column(word, paths), Column::Other) {
                let hint = suggestion(word, paths.keys().map(String::as_str).chain([NAME, PEERS]));
                self.say(&rules::UNKNOWN_KEY, key.span(), format!("a site has no key `{}`", printable(word))).remedy = hint;
            } else if let Some(heading) = text(node) {
                headings.insert(heading.value.to_owned(), word.to_owned());
            }
        }
        headings
    }

    fn csv(
        &mut self,
        content: &Source,
        start: usize,
        named: &BTreeMap<String, String>,
        paths: &BTreeMap<String, Path>,
        all: &DeTable<'_>,
        sites: &mut Vec<Site>,
    ) {
        let mut rows = Rows::of(content.text(), start, delimiter(content.text()));
        let mut headings = Vec::new();
        rows.next(&mut headings);
        let columns: Vec<_> =
            headings.iter().map(|cell| column(named.get(&*cell.value).map_or(&*cell.value, String::as_str), paths)).collect();
        for (heading, key) in named {
            if !headings.iter().any(|cell| cell.value == *heading) {
                let message = format!("`{}` has no column `{}` for `{key}`", printable(content.name()), printable(heading));
                self.say(&rules::BAD_INVENTORY, Span { start, end: start }, message).remedy = format!(
                    "Its headings are: {}.",
                    headings.iter().map(|cell| format!("`{}`", printable(&cell.value))).collect::<Vec<_>>().join(", ")
                );
            }
        }
        if !columns.iter().any(|column| matches!(column, Column::Name)) {
            let message = format!("`{}` has no column for the `name` of a site", printable(content.name()));
            self.say(&rules::BAD_INVENTORY, Span { start, end: start }, message).remedy =
                "Give it a heading `name`, or say which one it is: `columns = { name = \"Site\" }`.".to_owned();
            return;
        }
        sites.reserve_exact(content.text().lines().count().saturating_sub(1));
        let mut pieces = pieces(rows).peekable();
        while pieces.peek().is_some() {
            let some: Vec<Rows<'_>> = pieces.by_ref().take(parallel::at_once()).collect();
            let (source, context, columns) = (self.source, self.context, &columns);
            let decoded = parallel::each(some, false, |rows| {
                let (mut decoder, mut sites) = (Decoder::new(source, context), Vec::new());
                decoder.rows(rows, columns, all, &mut sites);
                (decoder, sites)
            });
            for (decoder, mut some) in decoded {
                self.findings.extend(decoder.findings);
                self.peers.extend(decoder.peers);
                sites.append(&mut some);
            }
        }
    }

    /// Adds the sites of some rows.
    fn rows<'i>(&mut self, mut rows: Rows<'i>, columns: &[Column], all: &DeTable<'i>, sites: &mut Vec<Site>) {
        let mut cells = Vec::new();
        while rows.next(&mut cells) {
            if cells.iter().all(|cell| cell.value.is_empty()) {
                continue;
            }
            if cells.len() != columns.len() {
                let span = Span { start: cells[0].span.start, end: cells[cells.len() - 1].span.end };
                self.say(&rules::BAD_INVENTORY, span, format!("this row has {} cells, the headings are {}", cells.len(), columns.len()));
                continue;
            }
            let (mut fields, mut name, mut peers) = (all.clone(), None, Vec::new());
            for (cell, column) in cells.iter().zip(columns).filter(|(cell, _)| !cell.value.is_empty()) {
                match column {
                    Column::Name => name = Some(Located::new(cell.value.to_string(), cell.span)),
                    Column::Peers => peers.extend(words(cell).map(|(word, span)| Located::new(word.to_owned(), span))),
                    Column::Key(path, shape) => put(&mut fields, path, cell.span, value(shape, cell)),
                    Column::Network(network) => {
                        put(&mut fields, &["networks", network], cell.span, DeValue::String(cell.value.clone()));
                    }
                    Column::Other => {}
                }
            }
            match name {
                Some(name) => sites.extend(self.row(name, &fields, peers)),
                None => drop(self.say(&rules::BAD_INVENTORY, cells[0].span, "this row has no name")),
            }
        }
    }

    fn json(
        &mut self,
        content: &Source,
        start: usize,
        named: &BTreeMap<String, String>,
        paths: &BTreeMap<String, Path>,
        all: &DeTable<'_>,
        sites: &mut Vec<Site>,
    ) {
        let strict = ParseOptions {
            allow_comments: false,
            allow_loose_object_property_names: false,
            allow_trailing_commas: false,
            allow_missing_commas: false,
            allow_single_quoted_strings: false,
            allow_hexadecimal_numbers: false,
            allow_unary_plus_numbers: false,
        };
        if let Some(at) = too_deep(content.text()) {
            self.say(
                &rules::BAD_INVENTORY,
                Span { start: start + at, end: start + at + 1 },
                "this is nested too deeply for a list of sites",
            );
            return;
        }
        let parsed = match parse_to_ast(content.text(), &CollectOptions::default(), &strict) {
            Ok(parsed) => parsed.value,
            Err(error) => {
                let range = error.range();
                let span = Span { start: start + range.start, end: start + range.end };
                self.say(&rules::BAD_INVENTORY, span, format!("this is not well-formed JSON: {}", error.kind()));
                return;
            }
        };
        let Some(Value::Array(list)) = &parsed else {
            self.say(&rules::BAD_INVENTORY, Span { start, end: start }, "this is not a list of objects");
            return;
        };
        sites.reserve_exact(list.elements.len());
        for entry in &list.elements {
            let Value::Object(object) = entry else {
                self.say(&rules::BAD_INVENTORY, shifted(entry.range(), start), "this is not an object");
                continue;
            };
            let (mut fields, mut name, mut peers) = (all.clone(), None, Vec::new());
            for property in &object.properties {
                let heading = property.name.as_str();
                match (column(named.get(heading).map_or(heading, String::as_str), paths), &property.value) {
                    (Column::Name, Value::StringLit(found)) => {
                        name = Some(Located::new(found.value.to_string(), shifted(found.range(), start)));
                    }
                    (Column::Peers, found) => {
                        let cell = |one: &Value<'_>| {
                            let found = one.as_string_lit()?;
                            Some(Located::new(found.value.to_string(), shifted(found.range(), start)))
                        };
                        match found {
                            Value::Array(list) => peers.extend(list.elements.iter().filter_map(cell)),
                            one => peers.extend(cell(one)),
                        }
                    }
                    (Column::Key(path, _), found) => merge(&mut fields, &path, found, start),
                    (Column::Network(network), found) => merge(&mut fields, &["networks", &network], found, start),
                    _ => {}
                }
            }
            match name {
                Some(name) => sites.extend(self.row(name, &fields, peers)),
                None => drop(self.say(&rules::BAD_INVENTORY, shifted(object.range(), start), "this object has no `name`")),
            }
        }
    }

    /// One site: checked like a table of the description.
    fn row(&mut self, name: Located<String>, fields: &DeTable<'_>, mut peers: Vec<Located<String>>) -> Option<Site> {
        if !peers.is_empty() {
            peers.shrink_to_fit();
            self.peers.insert(name.value.clone(), peers);
        }
        let before = self.findings.len();
        if !values::is_name(&name.value) {
            self.say(&rules::BAD_NAME, name.span, format!("`{}` cannot be the name of one of the sites by name", printable(&name.value)));
        }
        self.check_table(fields, SITE, name.span, format_args!("site `{}`", printable(&name.value)));
        let site = self.site(name, fields);
        site.filter(|_| self.findings.len() == before)
    }
}

/// What a heading stands for.
fn column(word: &str, paths: &BTreeMap<String, Path>) -> Column {
    match paths.get(word) {
        _ if word == NAME => Column::Name,
        _ if word == PEERS => Column::Peers,
        Some((path, shape)) => Column::Key(path.clone(), shape),
        None => match word.strip_prefix("networks.") {
            Some(network) => Column::Network(network.to_owned()),
            None => Column::Other,
        },
    }
}

/// Puts a value where it would stand in a site's table.
fn put<'i>(fields: &mut DeTable<'i>, path: &[&str], span: Span, value: DeValue<'i>) {
    let name = |part: &str| Spanned::new(span.range(), Cow::Owned(part.to_owned()));
    let Some((last, above)) = path.split_last() else { return };
    let mut at = fields;
    for part in above {
        let inner = at.entry(name(part)).or_insert_with(|| Spanned::new(span.range(), DeValue::Table(DeTable::new())));
        if table(inner).is_none() {
            *inner = Spanned::new(span.range(), DeValue::Table(DeTable::new()));
        }
        let DeValue::Table(inner) = inner.get_mut() else { return };
        at = inner;
    }
    // The key of what was there keeps the place of what was there.
    at.remove(*last);
    at.insert(name(last), Spanned::new(span.range(), value));
}

/// What a cell means where a value of this shape belongs.
fn value<'i>(shape: &Shape, cell: &Located<Cow<'i, str>>) -> DeValue<'i> {
    match (shape, &cell.value) {
        (Shape::Number | Shape::Flag, Cow::Borrowed(text)) => {
            DeValue::parse(text).map_or(DeValue::String(Cow::Borrowed(text)), Spanned::into_inner)
        }
        (Shape::Map { .. }, _) => DeValue::Table(networks(cell)),
        (Shape::Either(shapes), text) if text.contains(' ') && shapes.iter().any(|shape| matches!(shape, Shape::List { .. })) => list(cell),
        (Shape::List { .. }, _) => list(cell),
        (_, text) => DeValue::String(text.clone()),
    }
}

/// The words of a cell, with blanks, commas or semicolons between them.
fn words<'c>(cell: &'c Located<Cow<'_, str>>) -> impl Iterator<Item = (&'c str, Span)> {
    let text = cell.value.as_ref();
    text.split([' ', ',', ';']).filter(|word| !word.is_empty()).map(move |word| {
        let at = word.as_ptr() as usize - text.as_ptr() as usize;
        let start = cell.span.start + at;
        (word, Span { start, end: start + word.len() })
    })
}

fn list<'i>(cell: &Located<Cow<'i, str>>) -> DeValue<'i> {
    let node = |(word, span): (&str, Span)| Spanned::new(span.range(), DeValue::String(Cow::Owned(word.to_owned())));
    DeValue::Array(words(cell).map(node).collect())
}

/// Networks: each alone, or with its name.
fn networks<'i>(cell: &Located<Cow<'i, str>>) -> DeTable<'i> {
    let several = words(cell).nth(1).is_some();
    let mut found = DeTable::new();
    for (number, (word, span)) in words(cell).enumerate() {
        let (name, prefix) = match word.split_once('=') {
            Some((name, prefix)) => (name.to_owned(), prefix),
            None if several => (format!("lan{}", number + 1), word),
            None => ("lan".to_owned(), word),
        };
        let span = Span { start: span.end - prefix.len(), ..span };
        found.insert(
            Spanned::new(span.range(), Cow::Owned(name)),
            Spanned::new(span.range(), DeValue::String(Cow::Owned(prefix.to_owned()))),
        );
    }
    found
}

fn shifted(range: jsonc_parser::common::Range, start: usize) -> Span {
    Span { start: start + range.start, end: start + range.end }
}

/// Puts a JSON value where it would stand in a site's table; an object adds to what is there.
fn merge<'i>(fields: &mut DeTable<'i>, path: &[&str], found: &Value<'i>, start: usize) {
    if let Value::Object(object) = found {
        for property in &object.properties {
            let inner: Vec<&str> = path.iter().copied().chain([property.name.as_str()]).collect();
            merge(fields, &inner, &property.value, start);
        }
    } else if let Some(node) = node(found, start) {
        put(fields, path, shifted(found.range(), start), node.into_inner());
    }
}

/// A JSON value as one of the description; `null` says nothing.
fn node<'i>(found: &Value<'i>, start: usize) -> Option<Node<'i>> {
    let value = match found {
        Value::StringLit(text) => DeValue::String(text.value.clone()),
        Value::NumberLit(number) => DeValue::parse(number.value).map_or(DeValue::String(Cow::Borrowed(number.value)), Spanned::into_inner),
        Value::BooleanLit(flag) => DeValue::Boolean(flag.value),
        Value::Array(list) => DeValue::Array(list.elements.iter().filter_map(|entry| node(entry, start)).collect()),
        Value::Object(object) => {
            let entry = |property: &ObjectProp<'i>| {
                let name = Spanned::new(shifted(property.range(), start).range(), Cow::Owned(property.name.as_str().to_owned()));
                Some((name, node(&property.value, start)?))
            };
            DeValue::Table(object.properties.iter().filter_map(entry).collect())
        }
        Value::NullKeyword(_) => return None,
    };
    Some(Spanned::new(shifted(found.range(), start).range(), value))
}

/// Where a JSON text is nested more deeply than a list of sites can be.
fn too_deep(text: &str) -> Option<usize> {
    let (mut depth, mut quoted, mut escaped) = (0, false, false);
    for (at, byte) in text.bytes().enumerate() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' if quoted => escaped = true,
            b'"' => quoted = !quoted,
            b'[' | b'{' if !quoted => {
                depth += 1;
                if depth > DEEPEST {
                    return Some(at);
                }
            }
            b']' | b'}' if !quoted => depth = depth.saturating_sub(1),
            _ => {}
        }
    }
    None
}

/// Rows of a CSV text (RFC 4180), each cell with its place.
struct Rows<'i> {
    text: &'i str,
    start: usize,
    delimiter: u8,
    reader: csv_core::Reader,
    at: usize,
    buffer: Vec<u8>,
}

/// What stands between the cells: spreadsheets separate by what the country's numbers leave free.
fn delimiter(text: &str) -> u8 {
    let headings = text.lines().next().unwrap_or_default();
    let most = [b',', b';', b'\t'].into_iter().max_by_key(|one| (headings.bytes().filter(|byte| byte == one).count(), *one == b','));
    most.unwrap_or(b',')
}

/// Many rows are read in pieces of about so many bytes, several at a time.
const PIECE: usize = 128 * 1024;

/// The rest of some rows, in pieces that end where a row does.
fn pieces(rows: Rows<'_>) -> impl Iterator<Item = Rows<'_>> {
    let (text, mut at) = (rows.text, rows.at);
    // In quotes there may be line ends: only who reads all of it knows where a row ends.
    let whole = text.as_bytes()[at..].contains(&b'"');
    std::iter::from_fn(move || {
        let rest = text.as_bytes().get(at..).filter(|rest| !rest.is_empty())?;
        let line_end = rest.iter().skip(PIECE).position(|byte| *byte == b'\n').filter(|_| !whole);
        let end = line_end.map_or(text.len(), |end| at + PIECE + end + 1);
        let piece = Rows { at, ..Rows::of(&text[..end], rows.start, rows.delimiter) };
        at = end;
        Some(piece)
    })
}

impl<'i> Rows<'i> {
    fn of(text: &'i str, start: usize, delimiter: u8) -> Self {
        let at = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
        let reader = ReaderBuilder::new().delimiter(delimiter).build();
        Rows { text, start, delimiter, reader, at, buffer: vec![0; 256] }
    }

    /// Reads a row into `cells`; false at the end.
    fn next(&mut self, cells: &mut Vec<Located<Cow<'i, str>>>) -> bool {
        cells.clear();
        let bytes = self.text.as_bytes();
        let (mut from, mut filled) = (self.at, 0);
        loop {
            let (result, read, written) = self.reader.read_field(&bytes[self.at..], &mut self.buffer[filled..]);
            self.at += read;
            filled += written;
            match result {
                ReadFieldResult::OutputFull => self.buffer.resize(self.buffer.len() * 2, 0),
                // All of it is there: what is missing is the end.
                ReadFieldResult::InputEmpty => {}
                ReadFieldResult::Field { record_end } => {
                    cells.push(self.cell(from, &self.buffer[..filled]));
                    (from, filled) = (self.at, 0);
                    if record_end {
                        return true;
                    }
                }
                ReadFieldResult::End => return !cells.is_empty(),
            }
        }
    }

    /// A cell from here on, as it reads without its quotes.
    fn cell(&self, from: usize, read: &[u8]) -> Located<Cow<'i, str>> {
        let raw = &self.text[from..self.at];
        // The reader takes line ends before a row and the delimiter behind a cell with it.
        let begin = from + (raw.len() - raw.trim_start_matches(['\r', '\n']).len());
        let found = String::from_utf8_lossy(read);
        let found = found.trim();
        let raw = &self.text[begin..self.at];
        // Most cells are what stands there from the first byte on.
        let at = if raw.starts_with(found) { Some(0) } else { raw.find(found) };
        match at {
            Some(at) => {
                let start = begin + at;
                let span = Span { start: self.start + start, end: self.start + start + found.len() };
                Located::new(Cow::Borrowed(&self.text[start..start + found.len()]), span)
            }
            None => Located::new(Cow::Owned(found.to_owned()), Span { start: self.start + begin, end: self.start + self.at }),
        }
    }
}
