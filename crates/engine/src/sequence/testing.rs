//! What the tests of sequences share.

/// Numbers without a pattern, around 0 with a spread of 1 / √12.
pub fn noise(x: u32, y: u32, frame: u32) -> f32 {
    let mut n = x.wrapping_mul(0x9E37_79B1) ^ y.wrapping_mul(0x85EB_CA77) ^ frame.wrapping_mul(0xC2B2_AE3D);
    n = (n ^ (n >> 15)).wrapping_mul(0x2C1B_3C6D);
    n = (n ^ (n >> 12)).wrapping_mul(0x297A_2D39);
    (n ^ (n >> 15)) as f32 / u32::MAX as f32 - 0.5
}
