#![no_main]
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| uspan_fuzz::read("starter", bytes));
