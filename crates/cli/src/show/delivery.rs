//! What is done on each gateway, in which order, and what that interrupts.

use std::path::Path;

use serde_json::{Value, json};
use uspan_core::{Delivery, PROGRAM};

use super::table::table;
use super::{HEADING, path_word, styled};

/// What to do next, gateway by gateway.
pub fn text(deliveries: &[Delivery<'_>], folder: &Path) -> String {
    let mut rows = Vec::new();
    let mut others = Vec::new();
    for delivery in deliveries {
        let name = &delivery.site.name.value;
        if delivery.site.platform.value.is_run_by_others() {
            others.push(format!("for whoever runs {name}: {}/{name}/parameters", path_word(folder)));
            continue;
        }
        let mut shown = [name.clone(), format!("sh {name}/{PROGRAM}")];
        for planned in &delivery.steps {
            let [name, program] = std::mem::take(&mut shown);
            rows.push(vec![name, program, planned.step.does.to_owned(), planned.interrupts.words().to_owned()]);
        }
        if !shown[0].is_empty() {
            let [name, program] = shown;
            rows.push(vec![name, program, "Nothing, if it has the earlier files.".to_owned(), String::new()]);
        }
    }
    let head = format!("Next: copy each folder in {} to its gateway, and run the program in it as root, in this order.", path_word(folder));
    let mut text = styled(HEADING, &head);
    if !rows.is_empty() {
        text = format!("{text}\n{}", table(&["on", "run", "what it does there", "interrupts"], rows, &[0, 1]));
    }
    for line in others {
        text = format!("{text}\n{line}");
    }
    text
}

/// The same for programs.
pub fn json(deliveries: &[Delivery<'_>]) -> Value {
    let ours = deliveries.iter().filter(|delivery| !delivery.site.platform.value.is_run_by_others());
    ours.map(|delivery| {
        let steps: Vec<Value> = delivery
            .steps
            .iter()
            .map(|planned| {
                json!({ "step": planned.step.word, "does": planned.step.does, "interrupts": planned.interrupts.words(), "files": planned.files })
            })
            .collect();
        json!({ "site": delivery.site.name.value, "program": PROGRAM, "steps": steps })
    })
    .collect()
}
