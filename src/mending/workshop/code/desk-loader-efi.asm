; Loader file of the sample UEFI PCs: a whole PE32+ image, laid out by hand. Says that it was reached, then rests.
;
; Entry: RCX image handle, RDX system table (UEFI Specification 2.10, sections 2.3.4 and 4.3): ConOut at offset 64,
; its OutputString at offset 8. Headers by the PE/COFF specification, revision 11, sections 3 and 4.

        bits    64
        default rel

ALIGN_  equ     0x200
BASE    equ     0x1000                  ; address of the one section in memory

file:   db      "MZ"
        times   60 - ($ - file) db 0
        dd      pe - file

pe:     db      "PE", 0, 0
        dw      0x8664                  ; x86-64
        dw      1                       ; sections
        dd      0, 0, 0
        dw      optional_end - optional
        dw      0x0206                  ; executable, no line numbers, no symbols

optional:
        dw      0x20b                   ; PE32+
        db      1, 0
        dd      code_end - code         ; length of code
        dd      0, 0
        dd      BASE                    ; entry
        dd      BASE                    ; start of code
        dq      0                       ; wanted address: anywhere, the code does not care
        dd      0x1000                  ; alignment in memory
        dd      ALIGN_                  ; alignment in the file
        dw      0, 0, 0, 0, 0, 0
        dd      0
        dd      0x2000                  ; length in memory
        dd      ALIGN_                  ; length of the headers
        dd      0
        dw      10                      ; an application
        dw      0
        dq      0, 0, 0, 0
        dd      0
        dd      6                       ; data directories, all empty
        times   6 dq 0
optional_end:

        db      ".text", 0, 0, 0
        dd      code_end - code
        dd      BASE
        dd      code_end - code
        dd      ALIGN_
        dd      0, 0
        dw      0, 0
        dd      0x60000020              ; code, may be run and read

        times   ALIGN_ - ($ - file) db 0

code:   sub     rsp, 40
        mov     rcx, [rdx + 64]
        lea     rdx, [text]
        call    [rcx + 8]
rest:   hlt
        jmp     rest

text:   dw      __utf16__(`\r\nSkerrivane Ferries: ticket desk loader reached.\r\n`), 0
        times   2048 - ($ - code) db 0x90       ; long enough to be cut off in the middle
code_end:
