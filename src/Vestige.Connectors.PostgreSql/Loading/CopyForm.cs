namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>The server's own text form of rows, as COPY gives and takes it (PostgreSQL manual, COPY, Text Format).</summary>
internal static class CopyForm
{
    public const string Text = "postgresql-copy-text";
}
