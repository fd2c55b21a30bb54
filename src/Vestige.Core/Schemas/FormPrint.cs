using System.Security.Cryptography;
using System.Text;
using System.Text.Json;

namespace Vestige.Core.Schemas;

/// <summary>A short text that is the same for forms of a table under which rows mean the same.</summary>
public static class FormPrint
{
    /// <summary>
    /// Of the columns by name, their types, and which are in the key; not of their order, nor of what a log does not tell of a
    /// form, such as defaults and what may be NULL.
    /// </summary>
    public static string Of(TableSchema form)
    {
        ArgumentNullException.ThrowIfNull(form);
        var told = form.Columns.OrderBy(column => column.Name, StringComparer.Ordinal).Select(column => new { column.Name, column.Type, IsKey = column.KeyOrdinal > 0 });
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(JsonSerializer.Serialize(told))))[..32];
    }
}
