//! One file a command.

mod adopt;
mod algorithms;
mod build;
mod check;
mod compare;
mod demo;
mod draw;
mod explain;
#[cfg_attr(not(feature = "certificates"), path = "no_keys.rs")]
mod keys;
mod many;
mod new;
mod parts;
mod platforms;
#[cfg(feature = "prove")]
mod prove;
mod rehearse;
mod relocate;
mod report;
mod retire;
mod schema;
mod secret;
mod sheet;
mod steps;
mod walk;

use clap::CommandFactory;
use serde::Serialize;
use serde_json::Value;
use uspan_core::{Finding, Source};

use crate::args::{Args, Command, Format};
use crate::failure::{CommandOutcome, Failure};
use crate::files::output::WriteOptions;
use crate::show::{STOP, findings, styled, terminal};

/// Runs a command.
pub fn run(args: Args) -> Result<CommandOutcome, Failure> {
    match args.command {
        Command::New { file } => new::run(file.as_deref()),
        Command::Check { file, supply, reasons, changed_since, format } => {
            check::run(&file, &supply, reasons, changed_since.as_deref(), format)
        }
        Command::Build { file, output, supply, preview, replace, changed_since, format } => {
            build::run(&file, &supply, &output, WriteOptions { replace, preview }, changed_since.as_deref(), format)
        }
        Command::Compare(args) => compare::run(&args),
        Command::Adopt(args) => adopt::run(&args),
        Command::Move { file, site, to, output, replace, format } => relocate::run(&file, &site, &to, output.as_deref(), replace, format),
        Command::Rehearse(args) => rehearse::run(&args),
        Command::Walk(args) => walk::run(&args),
        Command::Sheet(args) => sheet::run(&args),
        Command::Draw(args) => draw::run(&args),
        Command::Report(args) => report::run(&args),
        Command::VerifySteps { file, supply, tunnel, format } => steps::run(&file, &supply, tunnel.as_deref(), format),
        Command::Retire { file, tunnel, output, supply, replace, format } => retire::run(&file, &supply, &tunnel, &output, replace, format),
        #[cfg(feature = "prove")]
        Command::Prove(args) => prove::run(&args),
        #[cfg(feature = "prove")]
        Command::ProveInside { .. } => Err(Failure::Usage("this command is for `uspan prove` alone".to_owned())),
        Command::Secret { file, for_lab: true, replace, .. } => keys::for_lab(&file, replace),
        Command::Secret { file, pair: true, replace, .. } => keys::pair(&file, replace),
        Command::Secret { file, print, replace, .. } => secret::run(&file, print, replace),
        Command::Platforms { format } => platforms::run(format),
        Command::Algorithms { kind, format } => algorithms::run(kind, format),
        Command::Explain { words: true, .. } => {
            print_text(&uspan_core::trade_reference())?;
            Ok(CommandOutcome::Fine)
        }
        Command::Explain { reference: true, .. } => {
            print_text(&uspan_core::finding_reference())?;
            Ok(CommandOutcome::Fine)
        }
        Command::Explain { code, format, .. } => explain::run(code.as_deref(), format),
        Command::Schema { of, reference } => schema::run(of, reference),
        Command::Demo { folder } => demo::run(&folder),
        Command::Completions { shell } => {
            // To memory first: the library gives up the program where the stream is closed.
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "uspan", &mut script);
            print_text(&String::from_utf8_lossy(&script))?;
            Ok(CommandOutcome::Fine)
        }
    }
}

/// Prints a line of data, with styles where the stream wants them.
fn print_line(text: &str) -> Result<(), Failure> {
    Ok(terminal::line(text)?)
}

/// Prints a text as it is.
fn print_text(text: &str) -> Result<(), Failure> {
    Ok(terminal::text(text)?)
}

/// Prints JSON, piece by piece.
fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    Ok(terminal::json(value)?)
}

/// What JSON shows of a command, with how it ended.
fn ended(mut told: Value, fine: bool, findings: Value) -> Value {
    told["fine"] = fine.into();
    told["findings"] = findings;
    told
}

/// Ends a command that findings stop: `empty` is what JSON shows of a work that was not done, in the shape of one that was; `nothing`
/// says it in words.
fn stopped(found: &[Finding], source: &Source, format: Format, empty: Value, nothing: &str) -> Result<CommandOutcome, Failure> {
    if format == Format::Json {
        print_json(&ended(empty, false, findings::json(found, source)))?;
    } else {
        findings::print(found, source);
        let code = found.iter().find(|finding| finding.stops()).map_or("", |finding| finding.rule.code);
        let count = styled(STOP, &findings::count(found));
        print_line(&format!("{count}. {nothing}. Next: uspan explain {code}"))?;
    }
    Ok(CommandOutcome::Stopped)
}
