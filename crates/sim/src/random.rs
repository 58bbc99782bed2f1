//! Random numbers that are the same everywhere: `SplitMix64` (Steele, Lea and Flood, OOPSLA 2014).

/// A source of random numbers from a seed.
#[derive(Debug, Clone)]
pub struct Random(u64);

impl Random {
    /// A source; the same seed gives the same numbers.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next 64 bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number from 0 up to, and without, 1.
    pub fn unit(&mut self) -> f64 {
        (self.bits() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// A whole number below `end`; 0 if `end` is 0.
    pub fn below(&mut self, end: u64) -> u64 {
        if end == 0 { 0 } else { self.bits() % end }
    }

    /// Whether something of that likelihood happens.
    pub fn chance(&mut self, likelihood: f64) -> bool {
        self.unit() < likelihood
    }

    /// A number with the normal distribution, mean 0 and deviation 1 (Box and Muller, 1958).
    pub fn normal(&mut self) -> f64 {
        let (a, b) = (1.0 - self.unit(), self.unit());
        (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
    }
}
