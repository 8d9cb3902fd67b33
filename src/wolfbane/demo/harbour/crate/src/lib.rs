//! Tide heights for the gauge on the quay.

pub mod gauge;

const PERIOD: f64 = 12.42;
const MEAN: f64 = 3.1;
const RANGE: f64 = 4.6;

/// Water height in metres.
///
/// ```
/// assert!((tide::height(0.0) - 5.4).abs() < 1e-9);
/// ```
pub fn height(hours_after_high_water: f64) -> f64 {
    MEAN + RANGE / 2.0 * (std::f64::consts::TAU * hours_after_high_water / PERIOD).cos()
}

#[cfg(test)]
mod tests {
    use super::*;

    // tags: smoke
    #[test]
    fn high_water() {
        assert!((height(0.0) - 5.4).abs() < 1e-9);
    }

    #[test]
    fn low_water_is_half_a_tide_later() {
        assert!((height(PERIOD / 2.0) - 0.8).abs() < 1e-9);
    }

    #[test]
    #[ignore = "takes a spring tide"]
    fn a_whole_year() {
        assert!((0..8760).all(|hour| height(f64::from(hour)) < 5.5));
    }
}
