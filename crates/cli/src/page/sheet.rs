//! The parameter sheet as a part of a page.

use maud::{Markup, html};
use uspan_core::{Form, Handover, Place, Sheet};

use super::wide;

/// Where a place leads on the page, if it is on it, and how it is called.
pub type Leads<'a> = dyn Fn(usize, &Place) -> (Option<String>, String) + 'a;

/// The sheet as a page of its own.
pub fn alone(of: &Sheet, leads: &Leads<'_>) -> Markup {
    html! {
        h1 { "Parameter sheet" }
        h2 { (of.tunnel) ": " (of.titles[0]) " ⇄ " (of.titles[1]) }
        (sheet(of, leads))
    }
}

/// The form for a partner, to be printed and filled in by hand; the one that is read back is Markdown.
pub fn form(form: &Form) -> Markup {
    html! {
        h1 { "Parameter sheet" }
        h2 { "The tunnel " (form.tunnel) ", for " (form.titles[0]) }
        p {
            "From " (form.titles[1]) ". Please check each value of your end, and write yours into the last column where it is another one, as you "
            "are used to write it; a blank means that ours is right, and " code { "-" } " that there is none. You can type into the column, "
            "then save the page with your browser and send it back."
        }
        h3 { "Our end" }
        (wide("Our end", &html! {
            table { tbody { @for (what, values) in &form.about_us { tr { th scope="row" { (what) } td { @for value in values { div { (value) } } } } } } }
        }))
        h3 { "Your end, and what both ends use" }
        (wide("Your end", &html! {
            table {
                thead { tr { th scope="col" { "field" } th scope="col" { "what" } th scope="col" { "as we have it" } th scope="col" { "yours, where it differs" } } }
                tbody { @for field in &form.fields { tr { th scope="row" { (field.code) } td { (field.what) } td { (field.proposed) } td class="blank" contenteditable="true" aria-label={ "yours: " (field.what) } {} } } }
            }
        }))
        h3 { "What your gateway must do beside that" }
        ul { @for need in &form.needs { li { (need) } } }
        @for handover in &form.handovers { (hand(handover)) }
    }
}

/// The whole sheet.
pub fn sheet(sheet: &Sheet, leads: &Leads<'_>) -> Markup {
    html! {
        h3 { "The two ends" }
        (wide("The two ends", &facts(sheet)))
        h3 { "What both ends use, and why" }
        (wide("What both ends use", &agreed(sheet, leads)))
        @if !sheet.dropped.is_empty() {
            h3 { "Considered and dropped" }
            (wide("Considered and dropped", &html! {
                table {
                    thead { tr { th scope="col" { "value" } th scope="col" { "because" } } }
                    tbody { @for (value, why) in &sheet.dropped { tr { td { (value) } td { (why) } } } }
                }
            }))
        }
        @for handover in &sheet.handovers { (hand(handover)) }
    }
}

fn facts(sheet: &Sheet) -> Markup {
    html! {
        table {
            thead { tr { td {} @for end in &sheet.titles { th scope="col" { (end) } } } }
            tbody {
                @for fact in &sheet.facts {
                    tr {
                        th scope="row" { (fact.what) }
                        @for value in &fact.values { td { @for line in value { div { (line) } } } }
                    }
                }
            }
        }
    }
}

fn agreed(sheet: &Sheet, leads: &Leads<'_>) -> Markup {
    html! {
        table {
            thead {
                tr {
                    td {}
                    th scope="col" { "agreed" }
                    @for end in &sheet.titles { th scope="col" { "as " (end) " has it" } }
                    th scope="col" { "because" }
                }
            }
            tbody {
                @for row in &sheet.agreed {
                    tr {
                        th scope="row" {
                            (row.what)
                            @for child in &row.children { div class="faint" { (child) } }
                        }
                        td class="agreed" {
                            @for value in &row.value {
                                div { (value.words) }
                                @if let Some(registry) = &value.registry { div class="faint" { (registry) } }
                            }
                        }
                        @for (end, written) in row.written.iter().enumerate() {
                            td class="spelled" {
                                @if let Some((spelling, place)) = written {
                                    @let (to, at) = leads(end, place);
                                    code { (spelling) }
                                    div { @if let Some(to) = to { a href=(to) { (at) } } @else { span class="faint" { (at) } } }
                                } @else if row.by_default[end] { span class="faint" { "by default" } }
                            }
                        }
                        td class="why" {
                            @for value in &row.value { @if let Some(why) = &value.why { div { (why) } } }
                            @for why in &row.why { div { (why) } }
                        }
                    }
                }
            }
        }
    }
}

/// What goes from hand to hand.
fn hand(handover: &Handover) -> Markup {
    html! {
        h3 { "From hand to hand: " (handover.what) }
        p { (handover.how) "." }
        p { "Fingerprint: " @if let Some(check) = &handover.check { strong { code { (check) } } } @else { "none" } }
        div class="wide" tabindex="0" role="region" aria-label="The command for the fingerprint" { pre { (handover.command) } }
        p class="faint" { (handover.why) }
    }
}
