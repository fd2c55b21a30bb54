namespace Vestige.Web.Api.Describing;

/// <summary>Marks a text that is a time: RFC 3339, UTC, with microseconds.</summary>
[AttributeUsage(AttributeTargets.Property)]
public sealed class TimeAttribute : Attribute;
