//! The crate as the quay uses it.

use tide::{gauge::reading, height};

#[test]
fn a_day_turns_three_times() {
    let readings: Vec<u32> = (0..=240).map(|tenth| reading(height(f64::from(tenth) / 10.0))).collect();
    let mut turns = 0;
    let mut rising = false;
    for pair in readings.windows(2) {
        if pair[0] != pair[1] && rising != (pair[1] > pair[0]) {
            rising = !rising;
            turns += 1;
        }
    }
    assert_eq!(turns, 3);
}
