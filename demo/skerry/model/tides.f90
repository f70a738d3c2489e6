! Writes the highest water of each of some days, from the station's own day 0 on.
program tides
  use, intrinsic :: iso_c_binding, only : c_int
  use, intrinsic :: iso_fortran_env, only : real64
  use harmonics, only : height
  implicit none

  interface
    pure function minutes_of_day() bind(c)
      import :: c_int
      integer(c_int) :: minutes_of_day
    end function minutes_of_day
  end interface

  character(len=8) :: word
  integer :: days, day, minute, at
  real(real64) :: now, highest

  call get_command_argument(1, word)
  read (word, *) days
  do day = 0, days - 1
    highest = -huge(highest)
    at = 0
    do minute = 0, minutes_of_day() - 1, 10
      now = height(day * 24.0_real64 + minute / 60.0_real64)
      if (now > highest) then
        highest = now
        at = minute
      end if
    end do
    print '(a, i0, a, i0, a, i0, a)', 'day ', day, ': ', nint(highest), ' cm, minute ', at, ''
  end do
end program tides
