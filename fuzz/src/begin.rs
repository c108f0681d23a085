//! What each target begins with, and the words that it tries.

use std::fs;
use std::path::Path;

use crate::seeds::{DESCRIPTION, FOREIGN, SEEDS, WORDS};
use crate::{TREES, input, is_of};

/// Writes them into a folder.
///
/// # Errors
/// What the system says.
pub fn write(root: &Path) -> std::io::Result<()> {
    let put = |target: &str, number: usize, text: &str| -> std::io::Result<()> {
        let folder = root.join(target);
        fs::create_dir_all(&folder)?;
        fs::write(folder.join(format!("seed-{number}")), text)
    };
    for (target, ..) in TREES {
        let mut number = 0;
        for tree in SEEDS.iter() {
            let mut tree = tree.clone();
            tree.files.retain(|path, _| is_of(target, path));
            if !tree.files.is_empty() {
                put(target, number, &input(&tree))?;
                number += 1;
            }
        }
        for (path, text) in FOREIGN.iter().filter(|(path, _)| is_of(target, path)) {
            put(target, number, &format!("%% {path}\n{text}"))?;
            number += 1;
        }
        assert!(number > 0, "{target}");
    }
    // Descriptions of the tests: sound ones, and each kind of broken one.
    let tests = Path::new(env!("CARGO_MANIFEST_DIR")).join("../crates/cli/tests");
    put("description", 0, DESCRIPTION)?;
    let mut number = 1;
    for folder in ["broken", "careless"] {
        let mut paths: Vec<_> = fs::read_dir(tests.join(folder))?.flatten().map(|entry| entry.path()).collect();
        paths.sort();
        for path in paths {
            put("description", number, &String::from_utf8_lossy(&fs::read(path)?))?;
            number += 1;
        }
    }
    let fleet = "[inventory.branches]\nfile = \"x\"\n[group.all]\nshape = \"star\"\nhubs = [\"packhouse\"]\nmembers = [\"branches\"]\nmaster = \"k\"\n";
    let rows =
        "name,gateway.address,gateway.outside,gateway.inside,networks.lan,platform\na,203.0.113.1,eth0,eth1,10.1.0.0/16,strongswan\n";
    put("description", number, &format!("{DESCRIPTION}{fleet}\n%% x\n{rows}"))?;
    put(
        "description",
        number + 1,
        &format!("{DESCRIPTION}{fleet}\n%% x\n[{{ \"name\": \"a\", \"gateway\": {{ \"address\": \"203.0.113.1\" }} }}]\n"),
    )?;
    put("keys", 0, "C=US, O=\"Alder Creek, Orchards\", CN=packhouse+OU=x\n")?;
    put("keys", 1, include_str!("../../crates/core/tests/cases/rsa.crt"))?;
    put("keys", 2, "-----BEGIN PUBLIC KEY-----\nMHYwEAYHKoZIzj0CAQYFK4EEACIDYgAE\n-----END PUBLIC KEY-----\n")?;
    put(
        "sheet",
        0,
        "| field | what | as we have it | yours |\n|---|---|---|---|\n| address | the public address | 203.0.113.77 | 203.0.113.78 |\n| network racks | a network behind it | 10.73.16.0/20 | 10.73.32.0/20 |\n",
    )?;
    put("sheet", 1, "{ \"fields\": [ { \"field\": \"address\", \"yours\": \"203.0.113.78\" } ] }\n")?;
    let quoted = |word: &&str| {
        let bytes: String = word
            .bytes()
            .map(|byte| {
                if (b' '..=b'~').contains(&byte) && byte != b'"' && byte != b'\\' {
                    char::from(byte).to_string()
                } else {
                    format!("\\x{byte:02x}")
                }
            })
            .collect();
        format!("\"{bytes}\"\n")
    };
    fs::write(root.join("words.dict"), WORDS.iter().map(quoted).collect::<String>())
}
