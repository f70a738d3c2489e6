! The constituents of the tide at the station, and the height that they give.
module harmonics
  use, intrinsic :: iso_fortran_env, only : real64
  implicit none
  private
  public :: height

  integer, parameter :: count = 4
  ! Centimetres, hours, degrees.
  real(real64), parameter :: amplitude(count) = [182.0_real64, 61.0_real64, 36.0_real64, 9.0_real64]
  real(real64), parameter :: period(count) = [12.4206_real64, 12.0_real64, 12.6583_real64, 25.8193_real64]
  real(real64), parameter :: phase(count) = [310.0_real64, 352.0_real64, 288.0_real64, 41.0_real64]
  real(real64), parameter :: turn = 6.28318530717958648_real64

contains

  pure function height(hours) result(centimetres)
    real(real64), intent(in) :: hours
    real(real64) :: centimetres
    centimetres = sum(amplitude * cos(turn * (hours / period - phase / 360.0_real64)))
  end function height

end module harmonics
