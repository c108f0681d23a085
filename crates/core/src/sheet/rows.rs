//! The rows of a sheet that came back: the Markdown that it went out as, the page as a browser saved it, or what was copied out of either.

use html5gum::emitters::default::DefaultEmitter;
use html5gum::{Token, Tokenizer};
use uspan_model::source::{Source, Span};

/// A cell and its place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct SheetCell {
    pub text: String,
    pub span: Span,
    /// Whether it stands in the sheet as it reads, so that a place within it is one there.
    pub is_plain: bool,
}

/// A row with a field and what was filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct SheetRow {
    pub code: SheetCell,
    /// Whether a value was proposed in it.
    pub is_proposed: bool,
    pub value: SheetCell,
}

/// As many cells as the rows of fields have: the field, what it is, as it was proposed, what was filled in.
const CELLS: usize = 4;

/// The rows of a sheet; whether a text is a field's is asked where nothing else tells.
pub(super) fn rows(sheet: &Source, is_field: &dyn Fn(&str) -> bool) -> Vec<SheetRow> {
    let text = sheet.text();
    let is_page = text.trim_start().starts_with('<') || text.contains("<table");
    if is_page { page(text) } else { sheet.lines().filter_map(|(line, span)| row(line, span.start, is_field)).collect() }
}

/// A cell of a line that begins at `start`.
fn cell(part: &str, start: usize) -> SheetCell {
    let text = part.trim();
    let begin = start + (part.len() - part.trim_start().len());
    SheetCell { text: text.to_owned(), span: Span { start: begin, end: begin + text.len() }, is_plain: true }
}

/// A row of a Markdown table, of cells with tabs between them, or `field: value`.
fn row(line: &str, start: usize, is_field: &dyn Fn(&str) -> bool) -> Option<SheetRow> {
    let trimmed = line.trim();
    let inner = trimmed.strip_prefix('|').and_then(|row| row.strip_suffix('|'));
    let (body, mark) = match inner {
        Some(inner) => (inner, '|'),
        None if line.contains('\t') => (line, '\t'),
        None => {
            let (code, value) = trimmed.split_once([':', '='])?;
            let at = |part: &str| start + (part.as_ptr() as usize - line.as_ptr() as usize);
            return is_field(code.trim()).then(|| SheetRow {
                code: cell(code, at(code)),
                is_proposed: false,
                value: cell(value, at(value)),
            });
        }
    };
    let mut at = start + (body.as_ptr() as usize - line.as_ptr() as usize);
    let mut cells = Vec::new();
    for part in body.split(mark) {
        cells.push(cell(part, at));
        at += part.len() + mark.len_utf8();
    }
    of_cells(cells)
}

/// The row of some cells; nothing for the head of a table, the rule below it, and tables of other things.
fn of_cells(cells: Vec<SheetCell>) -> Option<SheetRow> {
    if cells.len() != CELLS {
        return None;
    }
    let [code, _, proposed, value] = <[SheetCell; CELLS]>::try_from(cells).ok()?;
    let is_rule = code.text.chars().all(|c| "-: ".contains(c));
    (!is_rule && code.text != "field").then_some(SheetRow { code, is_proposed: !proposed.text.is_empty(), value })
}

/// The rows of the tables of a page.
fn page(text: &str) -> Vec<SheetRow> {
    let mut rows = Vec::new();
    let (mut cells, mut open): (Vec<SheetCell>, Option<SheetCell>) = (Vec::new(), None);
    for token in Tokenizer::new_with_emitter(text, DefaultEmitter::<usize>::new_with_span()).flatten() {
        match token {
            Token::StartTag(tag) => match &**tag.name {
                b"tr" => cells.clear(),
                b"td" | b"th" => open = Some(SheetCell { span: Span { start: tag.span.end, end: tag.span.end }, ..SheetCell::default() }),
                // What an editor of a browser makes of a line end.
                b"br" | b"div" | b"p" => {
                    if let Some(cell) = &mut open {
                        cell.text.push(' ');
                    }
                }
                _ => {}
            },
            Token::String(string) => {
                if let Some(cell) = &mut open {
                    let said = String::from_utf8_lossy(&string.value).replace('\u{a0}', " ");
                    if cell.text.trim().is_empty() && !said.trim().is_empty() {
                        let lead = said.len() - said.trim_start().len();
                        cell.span.start = string.span.start + lead;
                        cell.is_plain = text.get(cell.span.start..).is_some_and(|rest| rest.starts_with(said.trim()));
                    } else if !said.trim().is_empty() {
                        cell.is_plain = false;
                    }
                    if !said.trim().is_empty() {
                        cell.span.end = string.span.end;
                    }
                    cell.text.push_str(&said);
                }
            }
            Token::EndTag(tag) if matches!(&**tag.name, b"td" | b"th") => {
                if let Some(mut cell) = open.take() {
                    cell.text = cell.text.split_whitespace().collect::<Vec<_>>().join(" ");
                    // A place is one in the text, whatever the page is made of.
                    cell.span.end = cell.span.end.clamp(cell.span.start, text.len());
                    if !text.is_char_boundary(cell.span.start) || !text.is_char_boundary(cell.span.end) {
                        cell.span = Span::default();
                    }
                    cells.push(cell);
                }
            }
            Token::EndTag(tag) if &**tag.name == b"tr" => rows.extend(of_cells(std::mem::take(&mut cells))),
            _ => {}
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> Vec<(String, String, String)> {
        let source = Source::new("sheet", text);
        let found = rows(&source, &|code| code == "pfs");
        let at = |span: Span| text[span.start..span.end].to_owned();
        found.into_iter().map(|row| (row.code.text, row.value.text.clone(), at(row.value.span))).collect()
    }

    #[test]
    fn rows_are_read_from_what_a_sheet_can_become() {
        let one = |value: &str| vec![("pfs".to_owned(), value.to_owned(), value.to_owned())];
        assert_eq!(read("| field | what | ours | yours |\n|---|---|---|---|\n| pfs | group | none | group 14 |\n"), one("group 14"));
        assert_eq!(read("pfs\tgroup\tnone\tgroup 14\nour end\tx\n"), one("group 14"));
        assert_eq!(read("Dear all,\npfs: group 14\nregards: me\n"), one("group 14"));
        assert_eq!(
            read(
                "<html><table><tr><th>field<th>x<tr><th scope=row>pfs</th><td>group</td><td>none</td><td class=\"blank\">group 14</td></tr></table>"
            ),
            one("group 14")
        );
        let edited = "<table><tr><th>pfs</th><td>a</td><td>b</td><td>group&nbsp;14<br></td></tr></table>";
        assert_eq!(read(edited), [("pfs".to_owned(), "group 14".to_owned(), "group&nbsp;14".to_owned())]);
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "(<|</|table|tr|td|th|>|\\||\t|\n|pfs|:|&nbsp;|&#x|é|[a-z ]{0,4}){0,40}") {
            let source = Source::new("sheet", text.clone());
            for row in rows(&source, &|code| code == "pfs") {
                prop_assert!(text.get(row.value.span.start..row.value.span.end).is_some());
            }
        }
    }
}
