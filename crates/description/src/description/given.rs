//! Addresses that a description leaves open (`address = "assigned"`) and that are supplied beside it.

use std::collections::BTreeMap;

use toml::de::{DeTable, DeValue};

use super::{Address, Description};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::source::Source;

/// Addresses by site.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Given(BTreeMap<String, Address>);

impl Given {
    /// Adds what a text such as `packhouse.address=198.51.100.20` says.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn add(&mut self, text: &str) -> Result<(), String> {
        let said = text.split_once('=').and_then(|(key, value)| Some((key.trim().strip_suffix(".address")?, value.trim())));
        let Some((site, value)) = said else { return Err(format!("`{text}` is not of the form SITE.address=ADDRESS")) };
        let address = Address::read(value).ok_or_else(|| format!("`{value}` is neither an address nor a DNS name"))?;
        self.0.insert(site.to_owned(), address);
        Ok(())
    }

    /// Adds what a TOML file says: a table for each site, with its `address`.
    pub fn add_file(&mut self, source: &Source) -> Vec<Finding> {
        let (root, errors) = DeTable::parse_recoverable(source.text());
        let place = |span: std::ops::Range<usize>| source.place(span.into());
        if let Some(error) = errors.first() {
            let message = format!("this is not well-formed TOML: {}", error.message().trim());
            return vec![Finding::new(&rules::SYNTAX, message).at(place(error.span().unwrap_or(0..0)))];
        }
        let mut findings = Vec::new();
        for (site, node) in root.get_ref() {
            let DeValue::Table(facts) = node.get_ref() else {
                let message = format!("`{}` is a table with an `address`", site.get_ref());
                findings.push(Finding::new(&rules::WRONG_TYPE, message).at(place(node.span())));
                continue;
            };
            for (key, value) in facts {
                let found = match value.get_ref() {
                    DeValue::String(text) if key.get_ref() == "address" => Address::read(text),
                    _ if key.get_ref() == "address" => None,
                    _ => {
                        let message = format!("a fact `{}` is not known; there is `address`", key.get_ref());
                        findings.push(Finding::new(&rules::UNKNOWN_KEY, message).at(place(key.span())));
                        continue;
                    }
                };
                match found {
                    Some(address) => drop(self.0.insert(site.get_ref().to_string(), address)),
                    None => {
                        let message = "this is neither an address nor a DNS name".to_owned();
                        findings.push(Finding::new(&rules::BAD_ADDRESS, message).at(place(value.span())));
                    }
                }
            }
        }
        findings
    }
}

impl Description {
    /// Fills in addresses that were left open. What fits nowhere is reported.
    pub fn give(&mut self, given: &Given) -> Vec<Finding> {
        let mut findings = Vec::new();
        for (name, address) in &given.0 {
            match self.sites.iter_mut().find(|site| site.name.value == *name) {
                Some(site) if site.address.value == Address::Assigned => site.address.value = address.clone(),
                Some(site) => {
                    let message = format!("`{name}` has an address in the description: {}", site.address.value);
                    findings.push(Finding::new(&rules::GIVEN_IN_VAIN, message).at(self.source.place(site.address.span)));
                }
                None => findings.push(Finding::new(&rules::GIVEN_IN_VAIN, format!("an address is given for `{name}`, which is no site"))),
            }
        }
        findings
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn facts_come_from_arguments_and_files() {
        let mut given = Given::default();
        given.add("packhouse.address=198.51.100.20").expect("well-formed");
        for wrong in ["packhouse=198.51.100.20", "packhouse.address", "packhouse.address=", "packhouse.address=a b", "x.port=1"] {
            assert!(given.add(wrong).is_err(), "{wrong}");
        }
        let file = Source::new("facts.toml", "[coldstore]\naddress = \"gate.example.net\"\n[press]\naddress = 7\nport = 8\n");
        let codes: Vec<_> = given.add_file(&file).iter().map(|finding| finding.rule.code).collect();
        assert_eq!(codes, ["US201", "US105"]);
        assert_eq!(given.0.len(), 2);
        assert_eq!(given.add_file(&Source::new("facts.toml", "[coldstore"))[0].rule.code, "US102");
    }
}
