#ifndef SKERRY_CTL_H
#define SKERRY_CTL_H

int cmd_station(int argc, char **argv);
int cmd_features(int argc, char **argv);
int cmd_tide(int argc, char **argv);
int cmd_journal(int argc, char **argv);
int cmd_check(int argc, char **argv);
void table_row(const char *left, const char *right);

#endif
