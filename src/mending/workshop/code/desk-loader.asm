; First file of the sample PCs: says on the screen that it was reached, then rests.
; In: loaded at 1000:0000. Firmware call: INT 10h/0eh.

        bits    16
        org     0

        mov     ax, cs
        mov     ds, ax
        cld
        mov     si, text
next:   lodsb
        test    al, al
        jz      idle
        mov     ah, 0x0e
        mov     bx, 7
        int     0x10
        jmp     next
idle:   hlt
        jmp     idle

text:   db 13, 10, "Skerrivane Ferries: ticket desk loader reached.", 13, 10, 0
        times   2048 - ($ - $$) db 0    ; long enough to need more than one sector
