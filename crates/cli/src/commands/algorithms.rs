//! `uspan algorithms`.

use serde_json::{Value, json};
use uspan_core::algorithm::{Kind, PRESETS, Row, Transform};
use uspan_core::{Context, Profile, Sa};

use crate::args::{Format, ListedKind};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;
use crate::show::table::table;
use crate::show::{HEADING, columns, styled, wrapped};

pub fn run(listing: Option<ListedKind>, format: Format) -> Result<CommandOutcome, Failure> {
    let context = input::context();
    let kinds: Vec<_> = match listing {
        None => Kind::ALL.to_vec(),
        Some(ListedKind::Encryption) => vec![Kind::Encryption],
        Some(ListedKind::Prf) => vec![Kind::Prf],
        Some(ListedKind::Integrity) => vec![Kind::Integrity],
        Some(ListedKind::Group) => vec![Kind::KeyExchange],
        Some(ListedKind::Strength) => return strengths(format),
    };
    if format == Format::Json {
        let rows = kinds.iter().flat_map(|kind| kind.rows().iter().map(|row| value(&context, row)));
        super::print_json(&rows.collect::<Vec<_>>())?;
        return Ok(CommandOutcome::Fine);
    }
    for kind in kinds {
        super::print_line(&styled(HEADING, &title(kind)))?;
        super::print_line(&rows(&context, kind))?;
        super::print_line("")?;
    }
    super::print_line(
        "! weak or withdrawn: refused unless the tunnel allows it by name with a reason.
* for ESP only, ~ for IKE only.  bits: strength.  IKE, ESP: status in RFC 8247
and RFC 8221.
IANA names are accepted too; --format json shows them with numbers and RFCs.",
    )?;
    Ok(CommandOutcome::Fine)
}

fn title(kind: Kind) -> String {
    format!("{} (IANA transform type {})", kind.word(), kind.number())
}

/// A platform's spelling; a star where it can do it for ESP only, a tilde where for IKE only.
fn spelling(row: &Row, profile: &Profile) -> String {
    let [ike, esp] = [Sa::Ike, Sa::Esp].map(|sa| profile.spelling(Transform::of(row), sa));
    match (ike, esp) {
        (None, Some(word)) => format!("{word} *"),
        (Some(word), None) if matches!(row.kind, Kind::Encryption | Kind::Integrity) => format!("{word} ~"),
        (Some(word), _) => word.to_owned(),
        (None, None) => "-".to_owned(),
    }
}

/// Status and spellings of a kind: in one table where that fits, else in two.
fn rows(context: &Context, kind: Kind) -> String {
    let all = kind_table(context, kind, true, true);
    match all.lines().all(|line| line.chars().count() <= columns()) {
        true => all,
        false => format!("{}\n\n{}", kind_table(context, kind, true, false), kind_table(context, kind, false, true)),
    }
}

fn kind_table(context: &Context, kind: Kind, status: bool, spellings: bool) -> String {
    let mut heads = vec!["  name"];
    if status {
        heads.extend(["bits", "IKE", "ESP"]);
    }
    if spellings {
        heads.extend(context.of_ours().map(|profile| &*profile.word));
    }
    let each = kind.rows().iter().filter(|row| !row.name.is_empty()).map(|row| {
        let weak = if row.weak.is_empty() { "  " } else { "! " };
        let mut cells = vec![format!("{weak}{}", row.name)];
        if status {
            cells.extend([row.strength.to_string(), row.ike.word().to_owned(), row.esp.word().to_owned()]);
        }
        if spellings {
            cells.extend(context.of_ours().map(|profile| spelling(row, profile)));
        }
        cells
    });
    // Only a status may be broken between its words.
    let fixed: Vec<usize> = (0..heads.len()).filter(|column| !(status && (2..4).contains(column))).collect();
    table(&heads, each.collect(), &fixed)
}

fn value(context: &Context, row: &Row) -> Value {
    let spellings: serde_json::Map<_, _> = context
        .of_ours()
        .map(|profile| {
            let [ike, esp] = [Sa::Ike, Sa::Esp].map(|sa| profile.spelling(Transform::of(row), sa));
            (profile.word.to_string(), json!({ "ike": ike, "esp": esp }))
        })
        .collect();
    json!({
        "kind": row.kind.word(),
        "name": if row.name.is_empty() { Value::Null } else { row.name.into() },
        "also": row.also,
        "iana": { "name": row.iana, "number": row.number, "key_bits": if row.key_bits == 0 { Value::Null } else { row.key_bits.into() } },
        "combined_mode": row.aead,
        "strength_bits": row.strength,
        "status": { "ike": row.ike.word(), "esp": row.esp.word() },
        "rfc": row.rfc,
        "weak": if row.weak.is_empty() { Value::Null } else { row.weak.into() },
        "spelling": spellings,
    })
}

fn strengths(format: Format) -> Result<CommandOutcome, Failure> {
    let ike = |(cipher, integrity, prf, group): &(&str, &str, &str, &str)| match integrity.is_empty() {
        true => format!("{cipher}, prf {prf}, group {group}"),
        false => format!("{cipher} + {integrity}, prf {prf}, group {group}"),
    };
    let esp =
        |(cipher, integrity): &(&str, &str)| if integrity.is_empty() { (*cipher).to_owned() } else { format!("{cipher} + {integrity}") };
    if format == Format::Json {
        let all = PRESETS.iter().map(|preset| {
            json!({ "name": preset.name, "purpose": preset.purpose, "ike": preset.ike.iter().map(ike).collect::<Vec<_>>(), "esp": preset.esp.iter().map(esp).collect::<Vec<_>>() })
        });
        super::print_json(&all.collect::<Vec<_>>())?;
        return Ok(CommandOutcome::Fine);
    }
    for preset in PRESETS {
        super::print_line(&styled(HEADING, preset.name))?;
        super::print_line(&format!("  {}", wrapped(preset.purpose, columns() - 2).join("\n  ")))?;
        preset.ike.iter().try_for_each(|row| super::print_line(&format!("  IKE  {}", ike(row))))?;
        preset.esp.iter().try_for_each(|row| super::print_line(&format!("  ESP  {}", esp(row))))?;
    }
    super::print_line("In order of preference. PFS takes the group of the first IKE proposal that\nboth ends can do.")?;
    Ok(CommandOutcome::Fine)
}
