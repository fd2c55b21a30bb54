namespace Vestige.Web.Api.Describing;

/// <summary>Marks an operation that takes the ETag of what it changes.</summary>
internal sealed class IfMatchNeeded;
