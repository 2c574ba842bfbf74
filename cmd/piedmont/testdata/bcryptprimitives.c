/* The one function of this library that Go's programs ask for, over one that
   Wine has. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size)
{
	return SystemFunction036(data, (ULONG)size);
}
