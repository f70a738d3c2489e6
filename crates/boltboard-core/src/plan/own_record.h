/* Returns the record that this program's file carries, as a text to be freed; 0 where it carries none, or a packed one. */
#ifndef @NAME@_DEFINED
#define @NAME@_DEFINED

#include <elf.h>
#include <link.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void *@NAME@_read(FILE *file, unsigned long from, unsigned long bytes)
{
    char *text = bytes < (1ul << 24) ? (char *)malloc(bytes + 1) : 0;
    if (!text)
        return 0;
    text[bytes] = 0;
    if (fseek(file, (long)from, SEEK_SET) == 0 && fread(text, 1, bytes, file) == bytes)
        return text;
    free(text);
    return 0;
}

static char *@NAME@(void)
{
    static const char section[] = ".boltboard";
    char *found = 0;
    FILE *file = fopen("/proc/self/exe", "rb");
    ElfW(Ehdr) *head = file ? (ElfW(Ehdr) *)@NAME@_read(file, 0, sizeof *head) : 0;
    ElfW(Shdr) *rows = 0;
    char *names = 0;
    unsigned long row, end, count = head ? head->e_shnum : 0;
    if (count > 0 && head->e_shentsize == sizeof *rows && head->e_shstrndx < count)
        rows = (ElfW(Shdr) *)@NAME@_read(file, (unsigned long)head->e_shoff, count * sizeof *rows);
    end = rows ? (unsigned long)rows[head->e_shstrndx].sh_size : 0;
    if (end > 0)
        names = (char *)@NAME@_read(file, (unsigned long)rows[head->e_shstrndx].sh_offset, end);
    for (row = 0; names && !found && row < count; row++)
        if (rows[row].sh_name < end && strcmp(names + rows[row].sh_name, section) == 0 && !(rows[row].sh_flags & SHF_COMPRESSED))
            found = (char *)@NAME@_read(file, (unsigned long)rows[row].sh_offset, (unsigned long)rows[row].sh_size);
    free(names);
    free(rows);
    free(head);
    if (file)
        fclose(file);
    if (found) {
        /* The first line is about the text itself. */
        char *text = strchr(found, '\n');
        if (text)
            memmove(found, text + 1, strlen(text));
    }
    return found;
}

#endif
