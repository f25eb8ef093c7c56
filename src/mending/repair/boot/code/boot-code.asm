; Boot code for the first sector of a BIOS disk with a table of four entries.
;
; In:   firmware has put sector 0 at 0000:7c00 and the drive number in DL.
; Does: moves itself to 0000:0600, finds the one active entry, reads that volume's first sector to 0000:7c00,
;       checks that it ends in 55 aa.
; Out:  jumps to 0000:7c00 with the drive number in DL and DS:SI at the active entry, as volume boot code expects.
; Else: prints one short message, waits for a key and gives the machine back to firmware (INT 18h).
;
; Firmware calls: INT 10h/0eh, INT 13h/00h 02h 08h 41h 42h, INT 16h/00h, INT 18h. Needs a 386 or later.
; Limit: 440 bytes, for the disk signature and the table stand behind it and are never part of this file.

        bits    16
        org     0x600

LOADED  equ     0x7c00                  ; where firmware put us, and where the volume's sector goes
TABLE   equ     0x600 + 446
TRIES   equ     4                       ; floppies and old controllers need a reset and another try

start:  cli
        xor     ax, ax
        mov     ss, ax
        mov     sp, LOADED
        mov     ds, ax
        mov     es, ax
        sti
        cld
        mov     si, LOADED
        mov     di, start
        mov     cx, 256
        rep     movsw
        jmp     0:moved

moved:  test    dl, 0x80                ; some firmware hands over a floppy's number for a hard disk
        jnz     .drive
        mov     dl, 0x80
.drive: mov     [drive], dl

; --- exactly one active entry ---
        mov     si, TABLE
        xor     bp, bp
        mov     cx, 4
.entry: cmp     byte [si], 0x80
        jne     .other
        test    bp, bp
        mov     bx, two_active
        jnz     stop
        mov     bp, si
.other: add     si, 16
        loop    .entry
        test    bp, bp
        mov     bx, none_active
        jz      stop

; --- its first sector, by LBA where firmware can, else by CHS ---
        mov     byte [tries], TRIES
again:  mov     ah, 0x41
        mov     bx, 0x55aa
        mov     dl, [drive]
        int     0x13
        jc      by_chs
        cmp     bx, 0xaa55
        jne     by_chs
        test    cl, 1                   ; calls with a disk address packet
        jz      by_chs

        push    dword 0                 ; the packet, from its end: LBA bits 32 to 63
        push    dword [bp + 8]          ; LBA bits 0 to 31
        push    word 0
        push    word LOADED
        push    word 1                  ; one sector
        push    word 16                 ; length of the packet
        mov     si, sp
        mov     ah, 0x42
        mov     dl, [drive]
        int     0x13
        lea     sp, [si + 16]           ; leaves the carry flag alone
        jnc     loaded

by_chs: mov     ah, 0x08
        mov     dl, [drive]
        xor     di, di
        int     0x13
        push    word 0                  ; some firmware changes ES here
        pop     es
        jc      failed
        and     cx, 0x3f                ; sectors a track
        jz      failed
        movzx   edi, dh
        inc     di                      ; heads
        movzx   ecx, cx
        mov     eax, [bp + 8]
        xor     edx, edx
        div     ecx                     ; EAX track, EDX sector from 0
        mov     bl, dl
        xor     edx, edx
        div     edi                     ; EAX cylinder, EDX head
        cmp     eax, 1023
        ja      failed
        mov     dh, dl
        mov     ch, al
        mov     cl, ah
        shl     cl, 6
        inc     bl
        or      cl, bl
        mov     dl, [drive]
        mov     bx, LOADED
        mov     ax, 0x0201
        int     0x13
        jnc     loaded

failed: xor     ah, ah
        mov     dl, [drive]
        int     0x13
        dec     byte [tries]
        jnz     again
        mov     bx, unreadable
        jmp     stop

loaded: cmp     word [LOADED + 510], 0xaa55
        mov     bx, no_boot_sector
        jne     stop
        mov     dl, [drive]
        mov     si, bp
        jmp     0:LOADED

; --- BX: message; never returns ---
stop:   mov     si, bx
.char:  lodsb
        test    al, al
        jz      .wait
        mov     ah, 0x0e
        mov     bx, 7
        int     0x10
        jmp     .char
.wait:  xor     ah, ah
        int     0x16
        int     0x18
.idle:  hlt
        jmp     .idle

none_active:    db "No entry of the table is active.", 0
two_active:     db "Two entries of the table are active.", 0
unreadable:     db "The active volume cannot be read.", 0
no_boot_sector: db "The active volume has no boot sector.", 0
drive:          db 0
tries:          db 0

        times   440 - ($ - $$) db 0
