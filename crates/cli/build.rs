//! How the program is linked.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    let told = |what: &str| std::env::var(what).unwrap_or_default();
    if told("CARGO_CFG_TARGET_OS") != "linux" {
        return;
    }
    // A program that stands at a fixed place has nothing to relocate when it starts: a third of the time that a short run takes.
    println!("cargo:rustc-link-arg-bins=-no-pie");
    // Which takes back that it is linked statically, where it is.
    if told("CARGO_CFG_TARGET_FEATURE").split(',').any(|feature| feature == "crt-static") {
        println!("cargo:rustc-link-arg-bins=-static");
    }
}
