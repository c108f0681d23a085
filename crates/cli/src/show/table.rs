//! Plain tables: aligned columns, a rule under the head, nothing that needs colour.

use comfy_table::{ColumnConstraint, ContentArrangement, LineStyle, Table, TableStyle, Width};

use super::columns;

const STYLE: TableStyle = TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));

/// A table with these heads and rows, fitted to the terminal. `fixed` columns do not wrap.
pub fn table(heads: &[&str], rows: Vec<Vec<String>>, fixed: &[usize]) -> String {
    let mut table = Table::new();
    table.load_style(STYLE);
    table.set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(columns()).unwrap_or(80));
    table.set_header(heads.to_vec());
    // A column never breaks a word, unless the word is a monster; a fixed column never breaks at all.
    let least = |i: usize| {
        let cells = rows.iter().map(|row| row[i].as_str()).chain([heads[i]]);
        let parts = cells
            .flat_map(|cell| if fixed.contains(&i) { cell.split('\n').collect::<Vec<_>>() } else { cell.split([' ', '\n']).collect() });
        parts.map(|part| part.chars().count()).filter(|width| *width <= 28).max().unwrap_or(0)
    };
    let least: Vec<_> = (0..heads.len()).map(least).collect();
    table.add_rows(rows);
    for (i, width) in least.into_iter().enumerate() {
        if let Some(column) = table.column_mut(i) {
            let gap = u16::from(i + 1 < heads.len());
            column.set_padding((0, gap));
            column
                .set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(u16::try_from(width + usize::from(gap)).unwrap_or(u16::MAX))));
        }
    }
    let text = table.to_string();
    text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}
