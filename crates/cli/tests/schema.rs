//! The JSON Schema and the reference page follow from the language table.

use serde_json::Value;

fn as_json(text: &str) -> Value {
    fn value(node: &toml::de::DeValue<'_>) -> Value {
        use toml::de::DeValue;
        match node {
            DeValue::String(text) => text.as_ref().into(),
            DeValue::Integer(number) => number.as_str().parse::<i64>().expect("a number").into(),
            DeValue::Boolean(flag) => (*flag).into(),
            DeValue::Array(items) => items.iter().map(|item| value(item.get_ref())).collect(),
            DeValue::Table(table) => {
                table.iter().map(|(k, v)| (k.get_ref().to_string(), value(v.get_ref()))).collect::<serde_json::Map<_, _>>().into()
            }
            DeValue::Float(_) | DeValue::Datetime(_) => panic!("not in the language"),
        }
    }
    let table = toml::de::DeTable::parse(text).expect("TOML");
    table.get_ref().iter().map(|(k, v)| (k.get_ref().to_string(), value(v.get_ref()))).collect::<serde_json::Map<_, _>>().into()
}

#[test]
fn editors_accept_the_demo_and_the_starter() {
    let validator = jsonschema::validator_for(&uspan_core::schema(&uspan_core::Context::built_in())).expect("a schema");
    for text in [include_str!("../../core/demo/orchard.span.toml"), include_str!("../assets/starter.span.toml")] {
        let errors: Vec<_> = validator.iter_errors(&as_json(text)).map(|e| e.to_string()).collect();
        assert!(errors.is_empty(), "{errors:?}");
    }
}

#[test]
fn editors_refuse_what_the_decoder_refuses() {
    let validator = jsonschema::validator_for(&uspan_core::schema(&uspan_core::Context::built_in())).expect("a schema");
    let demo = include_str!("../../core/demo/orchard.span.toml");
    for (old, new) in [
        ("platform  ", "plattform "),
        ("\"strongswan\"", "7"),
        ("\"strong\"", "\"stronk\""),
        ("10.73.16.0/20", "racks"),
        ("unified-span = 1", ""),
    ] {
        let text = demo.replacen(old, new, 1);
        assert_ne!(text, demo, "{old}");
        assert!(!validator.is_valid(&as_json(&text)), "{new}");
    }
}

#[test]
fn the_reference_page_is_current() {
    // Make it with `uspan schema --reference > docs/reference/language.md`.
    assert_eq!(include_str!("../../../docs/reference/language.md"), uspan_core::language_reference(&uspan_core::Context::built_in()));
}
