#include <string.h>

#include "check.h"
#include "skerry/text.h"

int main(void)
{
    char line[] = "  name =  two words ", small[4], *left, *right;
    int number;
    CHECK(sk_split(line, '=', &left, &right));
    CHECK(!strcmp(left, "name") && !strcmp(right, "two words"));
    sk_copy(small, sizeof small, "too long");
    CHECK(!strcmp(small, "too"));
    CHECK(sk_number("-12", &number) && number == -12);
    CHECK(!sk_number("12x", &number) && !sk_number("", &number) && !sk_number("99999999999", &number));
    return 0;
}
