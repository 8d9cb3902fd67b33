//! What the gauge shows: whole decimetres.

/// The reading for a height; panics below the gauge's zero.
pub fn reading(height: f64) -> u32 {
    assert!(height >= 0.0, "the gauge is dry");
    (height * 10.0).round() as u32
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rounds_to_decimetres() {
        assert_eq!(reading(5.44), 54);
    }

    #[test]
    #[should_panic(expected = "dry")]
    fn is_dry_below_zero() {
        reading(-0.1);
    }
}
