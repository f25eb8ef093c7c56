; Boot sector code of the sample PCs' FAT32 volumes: finds one file in the root folder, loads it, jumps to it.
;
; In:   this sector at 0000:7c00, drive number in DL, DS:SI at the table entry it was started from.
; Does: searches the first cluster of the root folder for the eleven characters at `name`, reads the file, which the
;       workshop always lays down in one piece, to 1000:0000.
; Out:  jumps there with the drive number in DL; or a short message and a halt.
; The parameters in bytes 3 to 89 are the volume's own; the workshop puts this file around them.

        bits    16
        org     0x7c00

bytes_per_sector    equ 0x7c00 + 11
sectors_per_cluster equ 0x7c00 + 13
reserved_sectors    equ 0x7c00 + 14
fats                equ 0x7c00 + 16
hidden_sectors      equ 0x7c00 + 28
fat_sectors         equ 0x7c00 + 36
root_cluster        equ 0x7c00 + 44
BUFFER              equ 0x1000          ; segment

        jmp     short start
        nop
        times   90 - ($ - $$) db 0

start:  xor     ax, ax
        mov     ds, ax
        mov     ss, ax
        mov     sp, 0x7c00
        cld
        mov     [drive], dl
        movzx   eax, byte [fats]        ; first data sector = hidden + reserved + FATs
        mul     dword [fat_sectors]
        movzx   edx, word [reserved_sectors]
        add     eax, edx
        add     eax, [hidden_sectors]
        mov     [data], eax

        mov     eax, [root_cluster]
        movzx   cx, byte [sectors_per_cluster]
        call    read
        mov     ax, BUFFER
        mov     es, ax
        movzx   cx, byte [sectors_per_cluster]
        shl     cx, 4                   ; entries of 32 bytes in sectors of 512
        xor     di, di
.next:  push    cx
        push    di
        mov     si, name
        mov     cx, 11
        repe    cmpsb
        pop     di
        pop     cx
        je      .found
        add     di, 32
        loop    .next
        mov     si, missing
        jmp     say

.found: push    word [es:di + 20]
        push    word [es:di + 26]
        pop     eax                     ; the two halves of the first cluster, low word on top
        mov     ecx, [es:di + 28]
        add     ecx, 511
        shr     ecx, 9
        call    read
        mov     dl, [drive]
        jmp     BUFFER:0

; EAX: first cluster, CX: sectors; to BUFFER:0
read:   sub     eax, 2
        movzx   edx, byte [sectors_per_cluster]
        mul     edx
        add     eax, [data]
        push    dword 0
        push    eax
        push    word BUFFER
        push    word 0
        push    cx
        push    word 16
        mov     si, sp
        mov     ah, 0x42
        mov     dl, [drive]
        int     0x13
        lea     sp, [si + 16]
        mov     si, failed
        jc      say
        ret

say:    lodsb
        test    al, al
        jz      .idle
        mov     ah, 0x0e
        mov     bx, 7
        int     0x10
        jmp     say
.idle:  hlt
        jmp     .idle

missing:        db "Desk start: file not found: "
name:           db "DESKLOADBIN", 0
failed:         db "Desk start: disk error.", 0
drive:          db 0
data:           dd 0

        times   510 - ($ - $$) db 0
        dw      0xaa55
