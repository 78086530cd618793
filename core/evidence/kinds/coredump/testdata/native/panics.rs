// Panics in the way that its argument names.
use std::cell::RefCell;

#[inline(never)]
fn at(list: &[i32], i: usize) -> i32 { list[i] }
#[inline(never)]
fn divide(a: i32, b: i32) -> i32 { a / b }
#[inline(never)]
fn some(a: Option<i32>) -> i32 { a.unwrap() }
#[inline(never)]
fn fine(a: Result<i32, String>) -> i32 { a.unwrap() }
#[inline(never)]
fn expected(a: Option<i32>) -> i32 { a.expect("a berth") }
#[inline(never)]
fn add(a: i32, b: i32) -> i32 { a + b }
#[inline(never)]
fn changed(c: &RefCell<i32>) -> i32 {
    let held = c.borrow();
    *c.borrow_mut() = 3;
    *held
}
#[inline(never)]
fn range(list: &[i32], n: usize) -> i32 { list[..n].iter().sum() }
#[inline(never)]
fn text(s: &str, n: usize) -> i32 { s[..n].len() as i32 }
#[inline(never)]
fn alike(a: i32, b: i32) -> i32 {
    assert_eq!(a, b);
    a
}
#[inline(never)]
fn said(a: i32) -> i32 {
    if a > 0 {
        panic!("no berth for {a}")
    }
    a
}

#[inline(never)]
fn endless(n: u64, path: &mut [u64; 8]) -> u64 {
    path[n as usize % 8] = n;
    endless(n + 1, path) + path[3]
}

fn main() {
    let n = std::env::args().count() as i32; // 2
    let how = std::env::args().nth(1).unwrap_or_default();
    let x = match how.as_str() {
        "index" => at(&[1, 2], 7),
        "divide" => divide(n, n - 2),
        "none" => some(if n > 9 { Some(1) } else { None }),
        "err" => fine(if n > 9 { Ok(1) } else { Err("no".into()) }),
        "expect" => expected(if n > 9 { Some(1) } else { None }),
        "overflow" => add(i32::MAX, n),
        "cell" => changed(&RefCell::new(1)),
        "range" => range(&[1], 4),
        "text" => text("øre", n as usize - 1),
        "alike" => alike(n, 5),
        "said" => said(n),
        "endless" => endless(0, &mut [0; 8]) as i32,
        _ => std::process::abort(),
    };
    println!("{x}");
}
