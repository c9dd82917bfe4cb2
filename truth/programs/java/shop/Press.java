package shop;

import java.lang.management.ManagementFactory;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.Map;

// Java: methods, callbacks from the class library, recursion, strings. The
// machine's compilers inline small methods and its map does not tell, so what
// must be seen are the outer ones.
//
// stack shop.Press.ink: shop.Press.ink < ... < shop.Press.main < start_thread < ...
// stack shop.Press.pages: shop.Press.pages < ... < shop.Press.main < start_thread < ...
public class Press {
	static long sink;

	static long ink(int n) {
		long x = 0;
		for (int i = 0; i < n; i++) x = (x * 31 + i) % 1000003;
		return x;
	}

	static void inks() {
		for (int i = 0; i < 20; i++) sink += ink(60000);
	}

	static void pages() {
		Integer[] all = new Integer[2000];
		for (int i = 0; i < all.length; i++) all[i] = (i * 7919) % 60013;
		for (int k = 0; k < 12; k++) {
			Integer[] copy = all.clone();
			Arrays.sort(copy, (a, b) -> { sink++; return (a % 1009) - (b % 1009); });
			sink += copy[0];
		}
	}

	static long fold(int depth, int n) {
		if (depth == 0) return ink(n);
		return fold(depth - 1, n) + 1;
	}

	static void folds() {
		for (int i = 0; i < 10; i++) sink += fold(60, 80000);
	}

	static void titles() {
		for (int k = 0; k < 20; k++) {
			StringBuilder b = new StringBuilder();
			for (int i = 0; i < 4000; i++) b.append(i * 31).append(' ');
			sink += b.toString().hashCode();
		}
	}

	public static void main(String[] args) {
		var clock = ManagementFactory.getThreadMXBean();
		Map<String, Runnable> parts = new LinkedHashMap<>();
		parts.put("inks", Press::inks);
		parts.put("pages", Press::pages);
		parts.put("folds", Press::folds);
		parts.put("titles", Press::titles);
		Map<String, Long> spent = new LinkedHashMap<>();
		long all = 0;
		while (all < Double.parseDouble(args[0]) * 1e9) {
			for (var p : parts.entrySet()) {
				long begin = clock.getCurrentThreadCpuTime();
				p.getValue().run();
				long t = clock.getCurrentThreadCpuTime() - begin;
				spent.merge(p.getKey(), t, Long::sum);
				all += t;
			}
		}
		spent.forEach((name, t) -> System.out.println("part shop.Press." + name + " " + t));
	}
}
