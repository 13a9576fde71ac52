//! Every module gives what the decoder gives, bit for bit.

#[test]
fn every_module_is_the_decoder() {
    for (name, check) in firmware_tests::CHECKS {
        match check() {
            Ok(count) => println!("{name}: {count} frames"),
            Err(at) => panic!("{name}: the record at {at} does not agree"),
        }
    }
}
