// Values that were moved, dropped, passed on, or are still there.
struct Berth {
    name: String,
    depths: Vec<i32>,
}

#[inline(never)]
fn take(given: String, list: Vec<i32>, lent: &String) -> usize {
    let n = given.len() + list.len() + lent.len();
    if n > 3 {
        unsafe { std::ptr::read_volatile(std::ptr::null::<i32>()); }
    }
    n
}

fn main() {
    let first = String::from("Kelp Quay");
    let second = first;
    let list = vec![1, 2, 3];
    let dropped = String::from("a text of forty characters, not used now");
    drop(dropped);
    let boxed = Box::new(Berth { name: String::from("Ness"), depths: vec![4] });
    let other = boxed;
    let some = Some(String::from("tide"));
    let same = some;
    let copied = second.clone();
    let empty = String::new();
    let nothing: Vec<i32> = Vec::new();
    let text = String::from("given away");
    let lent = String::from("lent");
    let n = take(text, list, &lent);
    println!("{} {} {} {} {:?} {} {} {:?} {}", n, second, other.name, other.depths.len(), same, copied, empty, nothing, lent);
}
