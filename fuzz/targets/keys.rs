#![no_main]
// With `USPAN_SEEDS=FOLDER` it writes what all targets begin with, and ends.
libfuzzer_sys::fuzz_target!(
    init: {
        if let Some(folder) = std::env::var_os("USPAN_SEEDS") {
            uspan_fuzz::begin::write(std::path::Path::new(&folder)).expect("written");
            std::process::exit(0);
        }
    },
    |bytes: &[u8]| uspan_fuzz::keys(bytes)
);
