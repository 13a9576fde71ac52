/* What runs before main on a Cortex-M: the vector table, and memory as C wants it. The result of main goes to whoever emulates. */
#include <stdint.h>

extern uint32_t data_begin, data_end, data_source, bss_begin, bss_end, stack_top;
int main(void);
void start(void);

static void semihosting(uint32_t operation, uint32_t argument)
{
    register uint32_t r0 __asm__("r0") = operation;
    register uint32_t r1 __asm__("r1") = argument;

    __asm__ volatile("bkpt 0xAB" : : "r"(r0), "r"(r1) : "memory");
}

/* SYS_EXIT_EXTENDED: reason "the application exited", and a code. */
static void leave(uint32_t code)
{
    const uint32_t block[2] = { 0x20026, code };

    semihosting(0x20, (uint32_t)(uintptr_t)block);
    for (;;) {
    }
}

static void fault(void)
{
    leave(99);
}

void start(void)
{
    uint32_t *from = &data_source;

#if defined(__ARM_FP)
    *(volatile uint32_t *)0xE000ED88 |= 0xFU << 20; /* CPACR: the floating-point unit is on */
    __asm__ volatile("dsb\n isb");
#endif
    for (uint32_t *to = &data_begin; to < &data_end; ++to) {
        *to = *from++;
    }
    for (uint32_t *to = &bss_begin; to < &bss_end; ++to) {
        *to = 0;
    }
    leave((uint32_t)main());
}

__attribute__((section(".vectors"), used)) static void *const vectors[16] = {
    &stack_top, start, fault, fault, fault, fault, fault, 0, 0, 0, 0, fault, fault, 0, fault, fault,
};
