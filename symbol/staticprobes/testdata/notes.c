/* Notes of static probes: two that are as they should be, and some that lie. */
#define NOTE(place, count, texts)                                                              \
	__asm__ volatile(".pushsection .note.probes,\"\",@note\n.balign 4\n"                     \
	                 ".4byte 12f-11f, 14f-13f, 3\n11: .asciz \"any\"\n12: .balign 4\n"       \
	                 "13: .8byte " place ", 0, " count "\n" texts "\n14: .balign 4\n.popsection")
#define TEXTS(provider, name) ".asciz \"" provider "\"\n.asciz \"" name "\"\n.asciz \"8@%rbx\""

__attribute__((section(".probes"))) volatile unsigned short wanted = 0;
int after(void) { return 2; }

int main(void)
{
	__asm__ volatile("good: nop");
	NOTE("good", "0", TEXTS("shop", "plate__start"));
	NOTE("good", "wanted", TEXTS("shop", "plate__done"));
	/* Its place is no probe's, is nowhere, or is data; its count is code; its name is none, has no end, is long. */
	NOTE("after+1", "0", TEXTS("shop", "within"));
	NOTE("0x7fffffffffff", "0", TEXTS("shop", "nowhere"));
	NOTE("wanted", "0", TEXTS("shop", "data"));
	NOTE("good", "good", TEXTS("shop", "counted__in__code"));
	NOTE("good", "0", TEXTS("shop", ""));
	NOTE("good", "0", TEXTS("sh op", "blank"));
	NOTE("good", "0", ".ascii \"shop\"");
	NOTE("good", "0", ".fill 300, 1, 'x'\n.asciz \"\"\n.asciz \"long\"\n.asciz \"\"");
	return after() - 2 + wanted;
}
