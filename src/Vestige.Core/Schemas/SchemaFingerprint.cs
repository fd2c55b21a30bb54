using System.Security.Cryptography;
using System.Text;
using System.Text.Json;

namespace Vestige.Core.Schemas;

/// <summary>
/// A short text that says under which schema rows were loaded. Where the database tells one table from another of its name, the text
/// names that table and its columns by the database's own numbers; else it is made of the columns' names and types.
/// </summary>
public static class SchemaFingerprint
{
    private const string Identified = "2";

    public static string Of(TableSchema form)
    {
        ArgumentNullException.ThrowIfNull(form);
        return form.Incarnation is null ? OfColumns(form) : $"{Identified}:{form.Incarnation}:{form.Stamp}";
    }

    /// <summary>Whether rows of a form mean the same as those that were loaded under that print.</summary>
    public static bool IsOf(string print, TableSchema form)
    {
        ArgumentNullException.ThrowIfNull(print);
        ArgumentNullException.ThrowIfNull(form);
        return Parts(print) is [Identified, var incarnation, _] ? incarnation == form.Incarnation : print == OfColumns(form);
    }

    /// <summary>
    /// Whether what was loaded under that print holds a change after which the table has this form. A change that gave rows other
    /// values, beside the log, is held only where the stamp is the same too.
    /// </summary>
    /// <param name="print">As kept with the load.</param>
    /// <param name="form">The form after the change.</param>
    /// <param name="values">Whether the change gave rows other values.</param>
    public static bool Holds(string print, TableSchema form, bool values)
    {
        ArgumentNullException.ThrowIfNull(form);
        return Parts(print) is [Identified, var incarnation, var stamp]
            ? incarnation == form.Incarnation && (!values || stamp == form.Stamp)
            : form.Incarnation is null && print == OfColumns(form);
    }

    /// <summary>Whether rows that were loaded under one print and under the other mean the same.</summary>
    public static bool IsSame(string print, string other)
    {
        ArgumentNullException.ThrowIfNull(print);
        ArgumentNullException.ThrowIfNull(other);
        return Parts(print) is [Identified, var incarnation, _] && Parts(other) is [Identified, var another, _]
            ? incarnation == another
            : print == other;
    }

    private static string[] Parts(string print) => print.Split(':');

    /// <summary>
    /// Of the columns by name, their types, and which are in the key; not of their order, nor of what a log does not tell of a
    /// form, such as defaults and what may be NULL.
    /// </summary>
    private static string OfColumns(TableSchema form)
    {
        var told = form
            .Columns.OrderBy(column => column.Name, StringComparer.Ordinal)
            .Select(column => new
            {
                column.Name,
                column.Type,
                IsKey = column.KeyOrdinal > 0,
            });
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(JsonSerializer.Serialize(told))))[..32];
    }
}
