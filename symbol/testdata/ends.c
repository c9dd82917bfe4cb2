/* Functions that end in known ways. */
#define FUNCTION(name, code) __asm__(".text\n.globl " #name "\n.type " #name ",@function\n" #name ":\n" code ".size " #name ",.-" #name "\n")

FUNCTION(one_return, "  mov %edi,%eax\n  ret\n");
FUNCTION(two_returns, "  test %edi,%edi\n  je 1f\n  xor %eax,%eax\n  ret\n1: mov $1,%eax\n  ret\n");
FUNCTION(jumps_on, "  inc %edi\n  jmp one_return\n");
FUNCTION(jumps_on_condition, "  test %edi,%edi\n  je one_return\n  xor %eax,%eax\n  ret\n");
FUNCTION(begins_with_loop, "1: dec %edi\n  jne 1b\n  ret\n");
FUNCTION(never_ends, "  nop\n1: jmp 1b\n");

int main(void) { return 0; }
