#include <alsa/asoundlib.h>

#include "skerry/fog.h"

void sk_speaker_play(int blasts)
{
    snd_pcm_t *out;
    static short low[8000];
    if (snd_pcm_open(&out, "default", SND_PCM_STREAM_PLAYBACK, 0) < 0)
        return;
    for (int i = 0; i < 8000; i++)
        low[i] = (short)((i / 40 % 2) * 8000 - 4000);
    if (snd_pcm_set_params(out, SND_PCM_FORMAT_S16, SND_PCM_ACCESS_RW_INTERLEAVED, 1, 8000, 1, 500000) == 0)
        while (blasts-- > 0)
            snd_pcm_writei(out, low, 8000);
    snd_pcm_drain(out);
    snd_pcm_close(out);
}
