using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace Vestige.Connectors.StandIn.Native;

/// <summary>The pre-update hook of the SQLite library that Microsoft.Data.Sqlite brings, which its own interface leaves out.</summary>
internal static unsafe partial class PreUpdate
{
    private const string Library = "e_sqlite3";

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial nint sqlite3_preupdate_hook(
        nint database,
        delegate* unmanaged[Cdecl]<nint, nint, int, byte*, byte*, long, long, void> callback,
        nint context
    );

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial int sqlite3_preupdate_count(nint database);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial int sqlite3_preupdate_old(nint database, int column, nint* value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial int sqlite3_preupdate_new(nint database, int column, nint* value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial int sqlite3_value_type(nint value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial long sqlite3_value_int64(nint value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial double sqlite3_value_double(nint value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial byte* sqlite3_value_text(nint value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial byte* sqlite3_value_blob(nint value);

    [LibraryImport(Library)]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    public static partial int sqlite3_value_bytes(nint value);
}
