#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| cledger_fuzz::reads(cledger_core::model::OutputFormat::Yaml, data));
