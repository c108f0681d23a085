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
    let widths: Vec<usize> = (0..heads.len())
        .map(|i| rows.iter().map(|row| row[i].chars().count()).chain([heads[i].chars().count()]).max().unwrap_or(0))
        .collect();
    table.add_rows(rows);
    for i in fixed {
        if let Some(column) = table.column_mut(*i) {
            let width = u16::try_from(widths[*i] + 2).unwrap_or(u16::MAX);
            column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(width)));
        }
    }
    let text = table.to_string();
    text.lines().map(|line| line.trim_end().strip_prefix(' ').unwrap_or(line.trim_end())).collect::<Vec<_>>().join("\n")
}
