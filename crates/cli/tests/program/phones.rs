//! What phones and computers have built in comes in: an initiator of IKEv2 and ESP of its own, in Python, from the RFCs alone.

use crate::common::World;

/// A script of the second implementation, with what it needs.
fn python(world: &World, words: &str) -> crate::common::Came {
    let tests = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/ike");
    let packages = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/test-needs/python");
    world.judge(&format!("PYTHONPATH='{packages}' PYTHONDONTWRITEBYTECODE=1 python3 '{tests}'/{words}"))
}

/// RFC 1320, 2759, 3079, 5903, 7634, 8031, 3526: nobody trusts a judge who fails at these.
#[test]
fn the_device_in_tests_gives_the_published_examples() {
    let world = World::empty();
    let came = python(&world, "vectors.py").is(0);
    assert_eq!(came.out.lines().filter(|line| line.starts_with("ok ")).count(), 18, "{}", came.out);
    assert!(python(&world, "characters.py list").is(0).out.lines().count() >= 16);
}
