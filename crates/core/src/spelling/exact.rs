//! Exact decimal numbers.

use std::fmt::Write;

/// An exact decimal number: `mantissa / 10^scale`.
#[derive(Clone, Copy, Debug)]
pub struct Number {
    /// All digits, signed.
    pub mantissa: i128,
    /// How many of them stand after the decimal mark.
    pub scale: u16,
}

impl Number {
    /// The number with exactly `scale` digits after the mark, if no digit is lost.
    ///
    /// ```
    /// use hypodoke_core::spelling::Number;
    ///
    /// let draught = Number { mantissa: 750, scale: 2 };
    /// assert_eq!(draught.rescale(1), Some(75));
    /// // A digit would be lost.
    /// assert_eq!(Number { mantissa: 751, scale: 2 }.rescale(1), None);
    /// ```
    pub fn rescale(self, scale: u16) -> Option<i128> {
        if scale >= self.scale {
            self.mantissa.checked_mul(power_of_ten(scale - self.scale)?)
        } else {
            let divisor = power_of_ten(self.scale - scale)?;
            (self.mantissa % divisor == 0).then(|| self.mantissa / divisor)
        }
    }

    /// The number's digits with `scale` of them after the mark, the others rounded or cut off.
    pub fn shortened(self, scale: u16, is_rounded: bool) -> i128 {
        let Some(divisor) = self.scale.checked_sub(scale).and_then(power_of_ten) else { return 0 };
        let (kept, rest) = (self.mantissa / divisor, self.mantissa % divisor);
        let is_up = is_rounded && rest.unsigned_abs() >= divisor.unsigned_abs().div_ceil(2);
        if is_up { kept + self.mantissa.signum() } else { kept }
    }

    /// The number without zeros behind its mark that say nothing.
    ///
    /// ```
    /// use hypodoke_core::spelling::Number;
    ///
    /// let number = Number { mantissa: 7500, scale: 3 }.without_zeros();
    /// assert_eq!((number.mantissa, number.scale), (75, 1));
    /// ```
    pub fn without_zeros(mut self) -> Number {
        while self.scale > 0 && self.mantissa % 10 == 0 {
            self = Number { mantissa: self.mantissa / 10, scale: self.scale - 1 };
        }
        self
    }

    /// The nearest 64-bit float.
    ///
    /// ```
    /// use hypodoke_core::spelling::Number;
    ///
    /// assert_eq!(Number { mantissa: 75, scale: 1 }.to_f64(), 7.5);
    /// ```
    pub fn to_f64(self) -> f64 {
        const EXACT: i128 = 1 << 53;
        if self.mantissa.abs() <= EXACT && self.scale <= 22 {
            // Both operands are exact, so the quotient is correctly rounded.
            return self.mantissa as f64 / POWERS_F64[self.scale as usize];
        }
        nearest(self.mantissa, self.scale, 0).unwrap_or(f64::NAN)
    }
}

impl std::fmt::Display for Number {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let sign = if self.mantissa < 0 { "-" } else { "" };
        let (digits, width) = (self.mantissa.unsigned_abs(), self.scale as usize);
        match power_of_ten(self.scale).map(i128::unsigned_abs) {
            _ if width == 0 => write!(f, "{sign}{digits}"),
            Some(one) => write!(f, "{sign}{}.{:0width$}", digits / one, digits % one),
            // No mantissa has as many digits as that.
            None => write!(f, "{sign}0.{digits:0width$}"),
        }
    }
}

impl PartialEq for Number {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Number {}

impl PartialOrd for Number {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Number {
    #[inline]
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        if self.scale == other.scale {
            return self.mantissa.cmp(&other.mantissa);
        }
        let scale = self.scale.max(other.scale);
        match (self.rescale(scale), other.rescale(scale)) {
            (Some(a), Some(b)) => a.cmp(&b),
            _ => self.to_f64().total_cmp(&other.to_f64()),
        }
    }
}

const POWERS_F64: [f64; 23] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18,
    1e19, 1e20, 1e21, 1e22,
];

/// Ten to the `exponent`, up to the largest that fits.
#[inline]
pub fn power_of_ten(exponent: u16) -> Option<i128> {
    if exponent < 19 { Some(10i64.pow(exponent as u32) as i128) } else { 10i128.checked_pow(exponent as u32) }
}

/// How many digits a mantissa has; 0 for zero.
pub fn digit_count(mantissa: i128) -> u16 {
    match mantissa.unsigned_abs().checked_ilog10() {
        Some(log) => log as u16 + 1,
        None => 0,
    }
}

/// Text of bounded length, without an allocation.
pub(super) struct Short {
    bytes: [u8; 96],
    len: usize,
}

impl Short {
    pub fn new() -> Short {
        Short { bytes: [0; 96], len: 0 }
    }

    pub fn text(&self) -> &str {
        self.bytes.get(..self.len).and_then(|bytes| std::str::from_utf8(bytes).ok()).unwrap_or_default()
    }
}

impl Write for Short {
    fn write_str(&mut self, text: &str) -> std::fmt::Result {
        let room = self.bytes.get_mut(self.len..self.len + text.len()).ok_or(std::fmt::Error)?;
        room.copy_from_slice(text.as_bytes());
        self.len += text.len();
        Ok(())
    }
}

/// The 64-bit float nearest to `mantissa / 10^(scale - exponent)`; `None` where it overflows, or
/// vanishes without being zero.
pub(super) fn nearest(mantissa: i128, scale: u16, exponent: i32) -> Option<f64> {
    let mut text = Short::new();
    let exponent = exponent - i32::from(scale);
    // Numbers of 64 bits are written much faster.
    match i64::try_from(mantissa) {
        Ok(mantissa) => write!(text, "{mantissa}e{exponent}").ok()?,
        Err(_) => write!(text, "{mantissa}e{exponent}").ok()?,
    }
    let value: f64 = text.text().parse().ok()?;
    (value.is_finite() && (value != 0.0 || mantissa == 0)).then_some(value)
}
