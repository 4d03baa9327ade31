#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| cledger_fuzz::ledgers::ledger(data));
