//! Sums of products, several side by side so that the processor need not wait for each.

/// The sum of the products of two slices, as far as the shorter goes.
pub fn dot(a: &[f64], b: &[f64]) -> f64 {
    const LANES: usize = 8;
    let mut sums = [0.0; LANES];
    let (a, b) = (&a[..a.len().min(b.len())], &b[..b.len().min(a.len())]);
    let (left, right) = (a.chunks_exact(LANES), b.chunks_exact(LANES));
    let rest: f64 = left.remainder().iter().zip(right.remainder()).map(|(x, y)| x * y).sum();
    for (x, y) in left.zip(right) {
        for lane in 0..LANES {
            sums[lane] += x[lane] * y[lane];
        }
    }
    sums.iter().sum::<f64>() + rest
}
