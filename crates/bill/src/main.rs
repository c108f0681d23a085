//! `uspan-bill`: writes the bill of materials of the program `uspan` as it is linked, in the format CycloneDX 1.5 (ECMA-424), to
//! standard output. It works offline: all it needs is what cargo has.
//!
//! It fails where a crate is not from crates.io, or is under a licence that is not in the list.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write as _;
use std::process::ExitCode;

use cargo_metadata::{CargoOpt, DependencyKind, MetadataCommand, Package, PackageId};
use serde_json::{Value, json};

/// Where crates come from.
const REGISTRY: &str = "registry+https://github.com/rust-lang/crates.io-index";

/// Licences that a crate may be under, or a choice of it (SPDX).
#[rustfmt::skip]
const LICENCES: [&str; 14] = [
    "MIT", "Apache-2.0", "Apache-2.0 WITH LLVM-exception", "BSD-2-Clause", "BSD-3-Clause", "ISC", "Zlib", "Unicode-3.0", "CC0-1.0", "Unlicense",
    "MIT-0", "BSL-1.0", "0BSD", "MPL-2.0",
];

fn main() -> ExitCode {
    let bill = match bill() {
        Ok(bill) => bill,
        Err(why) => {
            let _ = writeln!(std::io::stderr(), "uspan-bill: {why}");
            return ExitCode::from(3);
        }
    };
    let wrong = wrong(&bill);
    if !wrong.is_empty() {
        let _ = writeln!(std::io::stderr(), "uspan-bill: {}", wrong.join("\n"));
        return ExitCode::FAILURE;
    }
    match serde_json::to_string_pretty(&document(&bill)).map(|text| writeln!(std::io::stdout(), "{text}")) {
        Ok(Ok(())) => ExitCode::SUCCESS,
        _ => ExitCode::from(3),
    }
}

/// The crates of the program, each with those that it uses.
type Bill = BTreeMap<String, (Package, BTreeSet<String>)>;

/// How a crate is named in a bill (the package URL specification).
fn purl(package: &Package) -> String {
    format!("pkg:cargo/{}@{}", package.name, package.version)
}

fn bill() -> Result<Bill, String> {
    let mut command = MetadataCommand::new();
    // What another system would link beside is not in this program.
    let host = format!("{}-unknown-linux-gnu", std::env::consts::ARCH);
    let options = ["--locked", "--offline", "--filter-platform", host.as_str()].map(str::to_owned);
    command.features(CargoOpt::SomeFeatures(Vec::new())).other_options(options);
    let metadata = command.exec().map_err(|error| error.to_string())?;
    let resolved = metadata.resolve.as_ref().ok_or("cargo resolves nothing")?;
    let packages: BTreeMap<&PackageId, &Package> = metadata.packages.iter().map(|package| (&package.id, package)).collect();
    let nodes: BTreeMap<&PackageId, _> = resolved.nodes.iter().map(|node| (&node.id, node)).collect();
    let root = metadata.packages.iter().find(|package| *package.name == *"uspan").ok_or("there is no package `uspan`")?;
    let (mut bill, mut open) = (Bill::new(), vec![&root.id]);
    while let Some(id) = open.pop() {
        let (Some(package), Some(node)) = (packages.get(id), nodes.get(id)) else { continue };
        let linked =
            node.deps.iter().filter(|dep| dep.dep_kinds.iter().any(|kind| kind.kind == DependencyKind::Normal)).map(|dep| &dep.pkg);
        let uses: BTreeSet<String> = linked.clone().filter_map(|id| packages.get(id)).map(|package| purl(package)).collect();
        if bill.insert(purl(package), ((*package).clone(), uses)).is_none() {
            open.extend(linked);
        }
    }
    Ok(bill)
}

/// Crates that are not as they should be.
fn wrong(bill: &Bill) -> Vec<String> {
    let mut wrong = Vec::new();
    for (name, (package, _)) in bill {
        match &package.source {
            None if package.name.starts_with("uspan") => {}
            Some(source) if source.repr == REGISTRY => {}
            other => wrong.push(format!("{name} is from {other:?}, and not from crates.io")),
        }
        let licence = package.license.as_deref().unwrap_or("none");
        if !allowed(licence) {
            wrong.push(format!("{name} is under `{licence}`"));
        }
    }
    wrong
}

/// Whether an SPDX expression, without brackets within brackets, can be met by the list.
fn allowed(expression: &str) -> bool {
    let plain = expression.replace('/', " OR ");
    let one = |choice: &str| {
        choice.trim_matches(['(', ')', ' ']).split(" OR ").any(|licence| LICENCES.contains(&licence.trim_matches(['(', ')', ' '])))
    };
    plain.split(" AND ").all(one)
}

fn document(bill: &Bill) -> Value {
    let component = |(name, (package, _)): (&String, &(Package, BTreeSet<String>))| {
        json!({
            "type": if *package.name == *"uspan" { "application" } else { "library" },
            "bom-ref": name,
            "name": package.name,
            "version": package.version.to_string(),
            "purl": name,
            "licenses": [{ "expression": package.license.as_deref().unwrap_or("NOASSERTION").replace('/', " OR ") }],
        })
    };
    let root = bill.iter().find(|(_, (package, _))| *package.name == *"uspan").map(component);
    let others: Vec<_> = bill.iter().filter(|(_, (package, _))| *package.name != *"uspan").map(component).collect();
    let uses: Vec<_> = bill.iter().map(|(name, (_, uses))| json!({ "ref": name, "dependsOn": uses })).collect();
    json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.5",
        "version": 1,
        "metadata": { "component": root },
        "components": others,
        "dependencies": uses,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_bill_has_every_crate_that_is_linked_and_nothing_that_only_tests_use() {
        let bill = bill().expect("a bill");
        assert_eq!(wrong(&bill), Vec::<String>::new());
        let names: BTreeSet<&str> = bill.values().map(|(package, _)| package.name.as_str()).collect();
        for linked in ["uspan", "uspan-core", "uspan-lab", "ring", "toml", "clap", "rustix", "zeroize"] {
            assert!(names.contains(linked), "{linked}");
        }
        for not in ["insta", "proptest", "jsonschema", "html5ever", "uspan-bill", "cargo_metadata"] {
            assert!(!names.contains(not), "{not}");
        }
        // Whatever is used is in it.
        assert!(bill.values().flat_map(|(_, uses)| uses).all(|used| bill.contains_key(used)));
        let document = document(&bill);
        assert_eq!(document["components"].as_array().map(Vec::len), Some(bill.len() - 1));
        assert_eq!(document["metadata"]["component"]["name"], "uspan");
    }

    #[test]
    fn choices_and_sums_of_licences() {
        for (expression, fits) in [
            ("MIT OR Apache-2.0", true),
            ("MIT/Apache-2.0", true),
            ("(MIT OR Apache-2.0) AND Unicode-3.0", true),
            ("Apache-2.0 AND ISC", true),
            ("GPL-3.0-only", false),
            ("MIT AND GPL-3.0-only", false),
            ("GPL-3.0-only OR MIT", true),
            ("none", false),
        ] {
            assert_eq!(allowed(expression), fits, "{expression}");
        }
    }
}
