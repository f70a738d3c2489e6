#ifndef SKERRY_TIDE_H
#define SKERRY_TIDE_H

/* Height of the tide above mean level, in millimetres. */
int sk_tide_mm(int minute_of_day);
int sk_tide_entries(void);

#endif
