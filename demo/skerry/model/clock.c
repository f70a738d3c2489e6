/* What the model asks of the station's clock. */
int minutes_of_day(void);

int minutes_of_day(void)
{
    return 24 * 60;
}
