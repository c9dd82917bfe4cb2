// What Rust adds: closures, iterators and traits inlined, panics that unwind
// and are caught, mutual recursion, the standard library's sort, threads.
use std::io::Write;
use std::panic;

// stack score::spaces: score::ink < score::spaces < score::main
// stack score::beams: ... < score::beam_odd < score::beams < score::main
// stack score::height: score::height~ < ... < score::sorted < score::main
// stack score::drawn: <score::Round as score::Shape>::cover < score::drawn < score::main
// stack score::risky: ... < score::risky < ... < score::caught < score::main
// stack score::flatten: score::flatten~ < ... < score::piped < score::main
// stack score::worker: score::ink < score::worker < ...

// black_box keeps a value from being known at compile time.
#[inline(always)]
fn black_box<T>(x: T) -> T {
    unsafe {
        let y = std::ptr::read_volatile(&x);
        std::mem::forget(x);
        y
    }
}

#[repr(C)]
struct Timespec {
    sec: i64,
    nsec: i64,
}

extern "C" {
    fn clock_gettime(id: i32, t: *mut Timespec) -> i32;
}

#[inline(never)]
fn cpu(id: i32) -> i64 {
    let mut t = Timespec { sec: 0, nsec: 0 };
    unsafe { clock_gettime(id, &mut t) };
    t.sec * 1_000_000_000 + t.nsec
}

const PROCESS: i32 = 2;
const THREAD: i32 = 3;

#[inline(never)]
fn ink(mut x: f64, n: usize) -> f64 {
    for i in 0..n {
        x = (x * 1.0001 + i as f64).sqrt();
    }
    x
}

#[inline(never)]
fn spaces(mut x: f64) -> f64 {
    for _ in 0..60 {
        x = black_box(ink(x, 8000)) + 1.0;
    }
    x
}

#[inline(never)]
fn beam_even(x: f64, depth: u32) -> f64 {
    let y = if depth > 0 { beam_odd(x, depth - 1) } else { 1.0 };
    black_box(y) + depth as f64
}

#[inline(never)]
fn beam_odd(x: f64, depth: u32) -> f64 {
    let y = black_box(ink(x, 900));
    let z = if depth > 0 { beam_even(y, depth - 1) } else { 0.0 };
    black_box(z) + y
}

#[inline(never)]
fn beams(x: f64) -> f64 {
    let mut y = x;
    for _ in 0..8 {
        y = black_box(beam_odd(y, 39));
    }
    y
}

#[inline(always)]
fn height(x: f64) -> f64 {
    let mut y = x;
    for _ in 0..20 {
        y = (y * y + 1e-9).sqrt();
    }
    y
}

#[inline(never)]
fn sorted(marks: &[f64]) -> f64 {
    let mut m = marks.to_vec();
    m.sort_by(|a, b| height(*a).partial_cmp(&height(*b)).unwrap());
    black_box(m[0])
}

trait Shape {
    fn cover(&self, x: f64) -> f64;
}

struct Round(f64);

impl Shape for Round {
    #[inline(never)]
    fn cover(&self, mut x: f64) -> f64 {
        for i in 0..3000 {
            x = (x + self.0 * i as f64).sqrt();
        }
        x
    }
}

#[inline(never)]
fn drawn(shapes: &[Box<dyn Shape>]) -> f64 {
    let mut x = 1.0;
    for s in shapes {
        x = black_box(s.cover(x));
    }
    x
}

#[inline(never)]
fn risky(x: f64, depth: u32) -> f64 {
    let y = black_box(ink(x, 3000));
    if depth == 0 {
        panic::resume_unwind(Box::new(y));
    }
    black_box(risky(y, depth - 1)) + 1.0
}

#[inline(never)]
fn caught(x: f64) -> f64 {
    let mut y = x;
    for _ in 0..4 {
        if let Err(e) = panic::catch_unwind(|| risky(x, 10)) {
            y += *e.downcast::<f64>().unwrap();
        }
    }
    black_box(y)
}

#[inline(always)]
fn flatten(x: f64) -> f64 {
    let mut y = x;
    for i in 0..40 {
        y = (y * 1.0002 + i as f64).sqrt() + 1.0 / (y + 1.0);
    }
    y
}

#[inline(never)]
fn piped(n: u32) -> f64 {
    let x: f64 = (0..n).map(|i| flatten(i as f64)).filter(|x| *x > 0.5).sum();
    black_box(x)
}

#[inline(never)]
fn worker(x: f64) -> (f64, i64) {
    let t0 = cpu(THREAD);
    let y = black_box(ink(x, 400_000));
    (y, cpu(THREAD) - t0)
}

fn main() {
    let seconds: f64 = std::env::args().nth(1).map_or(1.0, |s| s.parse().unwrap());
    let end = (seconds * 1e9) as i64;
    let mut seed: u32 = 7;
    let marks: Vec<f64> = (0..1500)
        .map(|_| {
            seed = seed.wrapping_mul(1103515245).wrapping_add(12345);
            (seed % 100_003) as f64
        })
        .collect();
    let shapes: Vec<Box<dyn Shape>> = (0..40).map(|i| Box::new(Round(i as f64)) as Box<dyn Shape>).collect();
    let names = ["spaces", "beams", "sorted", "drawn", "caught", "piped", "worker"];
    let mut spent = [0i64; 7];
    while cpu(PROCESS) < end {
        for part in 0..7 {
            let t0 = cpu(THREAD);
            let mut inside = 0;
            match part {
                0 => { black_box(spaces(1.0)); }
                1 => { black_box(beams(2.0)); }
                2 => { black_box(sorted(&marks)); }
                3 => { black_box(drawn(&shapes)); }
                4 => { black_box(caught(3.0)); }
                5 => { black_box(piped(9000)); }
                _ => inside = std::thread::spawn(|| worker(4.0)).join().unwrap().1,
            }
            spent[part] += if part == 6 { inside } else { cpu(THREAD) - t0 };
        }
    }
    let mut out = std::io::stdout();
    for (name, t) in names.iter().zip(spent) {
        writeln!(out, "part score::{} {}", name, t).unwrap();
    }
}
