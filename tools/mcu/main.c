/* Goes through the vectors of one part; 0 where all agree. Built with -DPART=thole_9. */
#define JOIN(one, other) one##other
#define NAME(part) JOIN(part, _vectors)
#include <stdint.h>

uint32_t NAME(PART)(uint32_t *wrong);

#ifdef __AVR__
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>

static void put(char c)
{
    while (!(UCSR0A & (1 << UDRE0))) {
    }
    UDR0 = (uint8_t)c;
}

int main(void)
{
    uint32_t wrong = 0;
    const uint32_t count = NAME(PART)(&wrong);

    UCSR0B = 1 << TXEN0;
    for (const char *text = ((wrong == UINT32_MAX) && (count > 0)) ? "agree\n" : "differ\n"; *text; ++text) {
        put(*text);
    }
    cli();
    sleep_mode();
    return 0;
}
#else
int main(void)
{
    uint32_t wrong = 0;
    const uint32_t count = NAME(PART)(&wrong);

    return ((wrong == UINT32_MAX) && (count > 0)) ? 0 : 1;
}
#endif
